//! The installation as a whole: status, yard file, health.

mod change_filter;
pub mod changes;
pub mod health;
pub mod identity;
pub mod status;
pub mod yard_file;
