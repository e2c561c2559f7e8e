//! Linux.

pub mod clock;
pub mod hardware;
pub mod isolation;
pub mod keeper;
pub mod removal;
#[cfg(target_arch = "x86_64")]
mod virtualization;
