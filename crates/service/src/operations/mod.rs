//! What the service does: each operation takes an actor and validated input, makes one change with its audit row, and
//! returns a value. HTTP calls operations; operations call the store and views, and know nothing of HTTP.

pub mod installation;
pub mod jobs;
pub mod measures;
pub mod people;
pub mod pools;
pub mod runners;
pub mod transaction;
