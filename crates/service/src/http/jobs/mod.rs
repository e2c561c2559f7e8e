//! Jobs: submission, queue, reasons, logs.

pub mod bulk;
pub mod job;
pub mod logs;
pub mod queue;
pub mod requirement;
pub mod run;
pub mod source;
pub mod submission;
pub mod why;
