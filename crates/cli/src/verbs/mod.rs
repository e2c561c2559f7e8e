//! What each command does: one file per noun, one function per verb.

pub mod alert;
pub mod capacity;
pub mod generate;
pub mod help;
pub mod history;
pub mod job;
pub mod job_policy;
pub mod listener;
pub mod machine;
pub mod maintenance;
pub mod place;
pub mod pool;
pub mod queue;
pub mod runner;
pub mod seat;
pub mod status;
pub mod supplier;
pub mod target;
pub mod ticket;
pub mod token;
pub mod trends;
pub mod trial;
pub mod why;
pub mod yard;
