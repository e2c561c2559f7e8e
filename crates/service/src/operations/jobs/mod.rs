//! Jobs: submission, queue, reasons, logs.

pub mod bulk;
pub mod job;
pub mod submission;
