//! The installation as a whole: status, yard file, health.

pub mod yard_file;
