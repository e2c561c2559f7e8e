//! The service on loopback, through its client, over HTTP, with the real runner and in a real browser.
//!
//! One binary, so that linking is paid once. Each test has a database, a data folder and ports of its own.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

mod support;

mod access;
mod access_routes;
mod alerts;
mod api;
mod approvals;
mod arrows;
mod audit;
mod audit_seals;
mod backlog;
mod bad_input;
mod bench;
mod browser;
mod browser_accessibility;
mod browser_alerts;
mod browser_capacity;
mod browser_forms;
mod browser_people;
mod browser_settings;
mod browser_trends;
mod browser_yard;
mod capacity;
mod capacity_faults;
mod circles;
mod command_line;
mod console_components;
mod failover;
mod faults;
mod feed;
mod floods;
mod held_attempts;
mod history;
mod history_file;
mod identity;
mod isolation;
mod jobs;
mod joining;
mod keys;
mod leadership;
mod load;
mod logs;
mod matching;
mod object_storage;
mod openid;
mod pauses;
mod people;
mod retention;
mod run_commands;
mod run_source;
mod runner_faults;
mod runner_life;
mod runners;
mod runs;
mod secrets;
mod supervision;
mod tls;
mod traces;
mod trends;
mod untrusted;
mod variables;
mod waits;
mod yard_file;
