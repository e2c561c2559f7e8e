//! Runners: tickets, enrolment, their protocol, their settings and state.

pub mod attempt_identity;
pub mod attempt_secrets;
pub mod attempt_source;
pub mod attempts;
pub mod enrol;
pub mod maintenance;
pub mod own_runner;
pub mod protocol;
pub mod reports;
pub mod runner;
pub mod takeover;
pub mod ticket;
