//! What the tests of several crates share: a database of its own for each test.
//!
//! Used by the tests of the store and of the service, never by a program.
#![allow(
    clippy::expect_used,
    clippy::panic,
    reason = "a test that cannot prepare its database fails with the reason"
)]

mod database;

pub use database::Database;
