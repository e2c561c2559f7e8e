//! The installation as a whole: status, yard file, health.

pub mod idempotency;
pub mod yard_file;
