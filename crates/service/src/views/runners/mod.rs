//! Runners: tickets, enrolment, their protocol, their settings and state.

pub mod doctor;
pub mod maintenance;
pub mod runner;
pub mod takeover;
pub mod ticket;
pub mod timeline;
