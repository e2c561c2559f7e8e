//! What the service reads together for an answer, without changing anything: each view takes a connection or the shared
//! state and returns a value. HTTP, the leader, alerts and deliveries call views; views never call any of these.

pub mod capacity_state;
pub mod dispatch_state;
pub mod installation;
pub mod jobs;
pub mod measures;
pub mod people;
pub mod pools;
pub mod runners;
mod search;
