//! The service: HTTP for people, programs and runners, and the loops behind it.
//!
//! ```text
//!   http (axum, one file per noun) --> store --> outbox
//!                                                  |
//!                       feed (one reader per replica, hinted by NOTIFY, repaired by a sweep)
//!                      /        |          \
//!        leader (if this     desk (parked   events (Server-Sent
//!        replica leads)      polls wake)    Events)
//! ```
//! [`boot::serve`] takes a listener, a clock and a shutdown future, so that tests start it like the program does.

pub mod access;
pub mod app;
pub mod boot;
pub mod clock;
pub mod config;
pub mod desk;
pub mod error;
pub mod event;
pub mod feed;
pub mod herald;
pub mod http;
pub mod key_file;
pub mod leader;
pub mod lockbox;
pub mod log_store;
pub mod measures;
pub mod memory;
pub mod operations;
pub mod retention;
pub mod rounds;
pub mod rouse;
pub mod secret;
pub mod seen;
pub mod supply;
pub mod targets;
pub mod traces;
pub mod trends;
pub mod upkeep;
pub mod validation;
pub mod views;
pub mod watch;
