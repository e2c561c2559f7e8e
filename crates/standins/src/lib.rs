//! Small stand-ins for what lies outside of Pennine, for its demo and its tests. They are honest about being that.
//!
//! - [`cloud`]: a cloud that makes machines, with boot times, prices, a quota, and faults that are set while it runs. Its
//!   machines are processes of `pennine-runner` on this host.
//! - [`engine`]: a container engine, the real podman, with storage of its own.
//! - [`provider`]: a sign-in provider.
//! - [`store`]: a store of secrets that trusts identity tokens of jobs.
//! - [`program`]: what a test has run in place of a runner.

pub mod cloud;
pub mod engine;
pub mod program;
pub mod provider;
pub mod store;
