//! The installation as a whole: status, yard file, health.

pub mod status;
pub mod yard_file;
