//! The service: HTTP for people, programs and runners, and the loops behind it.
//!
//! ```text
//!   http ──> operations ──> views ──> store ──> outbox
//!                                                  │
//!                     feed (one reader per replica, hinted by NOTIFY, repaired by a sweep)
//!                    ╱            │                        ╲
//!       leader (if this    poll_wakeups (answers     http events (Server-Sent
//!       replica leads)     parked polls)             Events)
//! ```
//! [`boot::serve`] takes a listener, a clock and a shutdown future, so that tests start it like the program does.
//! `tests/arrows.rs` keeps the arrows between these modules pointing one way.

pub mod access;
pub mod alerting;
pub mod app;
mod audit_sealing;
pub mod audit_seals;
pub mod background;
pub mod boot;
pub mod bulk_actions;
pub mod clock;
pub mod cloud_events;
pub mod commands;
pub mod config;
pub mod delivery;
pub mod encryption;
pub mod error;
pub mod failed_attempts;
pub mod feed;
pub mod housekeeping;
pub mod http;
pub mod identity_keys;
pub mod installation;
pub mod key_file;
mod key_watch;
pub mod leader;
pub mod log_store;
pub mod log_volumes;
pub mod objects;
mod openid;
pub mod operations;
mod outside_secrets;
pub mod passwords;
mod poll_waiters;
pub mod poll_wakeups;
pub mod presence;
pub mod programs;
pub mod recurring_tasks;
pub mod retention;
pub mod rollup_updates;
pub mod runner_cache;
mod second_factor;
pub mod secret;
pub mod settings_version;
pub mod supplier_calls;
pub mod upload_budget;
pub mod validation;
pub mod views;
pub mod visible_yard;
pub mod webhook_client;
pub mod yard;
pub mod yard_cache;
