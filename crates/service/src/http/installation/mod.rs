//! The installation as a whole: status, yard file, health.

pub mod console;
pub mod events;
pub mod health;
pub mod identity;
pub mod status;
pub mod yard_file;
