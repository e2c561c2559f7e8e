//! What the tests of several crates share: a database of its own for each test, and a cluster where that is needed.
//!
//! Used by the tests of the store and of the service, never by a program.
#![allow(
    clippy::expect_used,
    clippy::panic,
    reason = "a test that cannot prepare its database fails with the reason"
)]

pub mod cluster;
mod database;

pub use database::Database;
