//! Jobs: submission, queue, reasons, logs.

pub mod bulk;
pub mod comparison;
pub mod failure_hint;
pub mod job;
pub mod logs;
pub mod queue;
pub mod remedies;
pub mod requirement;
pub mod run;
pub mod sizing;
pub mod why;
