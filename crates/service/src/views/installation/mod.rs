//! The installation as a whole: status, yard file, health.

pub mod changes;
pub mod health;
pub mod status;
pub mod yard_file;
