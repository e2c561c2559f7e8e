//! Linux.

pub mod clock;
pub mod hardware;
pub mod keeper;
#[cfg(target_arch = "x86_64")]
mod virtualization;
