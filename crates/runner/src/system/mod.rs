//! What the runner asks of the operating system, and nothing else does. Only Linux is here: another system gets a folder
//! beside `linux` that provides what this module re-exports:
//!
//! | what | what it must do |
//! | --- | --- |
//! | [`keeper`] | start a command, keep everything that it starts together, end all of it when asked and when the runner dies, and tell processor time and peak memory |
//! | [`clock`] | a clock that goes on while the machine sleeps, and an id of the machine's boot |
//! | [`isolation`] | hide the machine from a job, give it a user of its own, limit what it uses |
//! | [`removal`] | remove a folder whatever a job has made of it |
//! | [`hardware`] | memory, the size and the free room of a folder's disk, devices, container engines |
//! | [`systemd_unit`](crate::systemd_unit) | have the machine start the runner at boot, and start it again when it fails |
//!
//! Sockets, files and processes otherwise go through the standard library and tokio; signals are Unix's.

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "linux")]
pub use linux::{clock, hardware, isolation, keeper, removal};

#[cfg(not(target_os = "linux"))]
compile_error!(
    "pennine-runner is written for Linux only; src/system/mod.rs lists what another system must provide"
);
