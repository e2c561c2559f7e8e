//! Linux.

pub mod clock;
pub mod hardware;
pub mod keeper;
pub mod unit;
#[cfg(target_arch = "x86_64")]
mod virtualization;
