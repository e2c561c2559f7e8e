//! Runners: tickets, enrolment, their protocol, their settings and state.

pub mod doctor;
pub mod enrol;
pub mod maintenance;
pub mod own_runner;
pub mod programs;
pub mod protocol;
pub mod reports;
pub mod runner;
pub mod takeover;
pub mod ticket;
pub mod timeline;
