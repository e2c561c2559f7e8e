//! Pools and capacity: policies, machines, suppliers, seats.

pub mod approval;
pub mod capacity;
pub mod machine;
pub mod pool;
pub mod seat;
pub mod supplier;
pub mod untrusted;
