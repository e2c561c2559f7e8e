//! Linux.

pub mod clock;
pub mod hardware;
pub mod keeper;
pub mod unit;
