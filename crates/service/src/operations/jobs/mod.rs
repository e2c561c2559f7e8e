//! Jobs: submission, queue, reasons, logs.

pub mod bulk;
pub mod bulk_work;
pub mod job;
pub mod run;
pub mod run_graph;
pub mod source;
pub mod submission;
