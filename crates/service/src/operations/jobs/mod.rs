//! Jobs: submission, queue, reasons, logs.

pub mod bulk;
pub mod bulk_work;
pub mod job;
pub mod submission;
