//! The program on the machine: joins a pool, polls for work, runs it, tells what came of it.
//!
//! ```text
//!   work --> poll (one outstanding) --> attempt (workspace, time limit)
//!                                         |-- keeper  (the processes: a namespace that dies with the runner)
//!                                         |-- spool   (the log: on disk first, then to the service)
//!                                         `-- report  (the end: on disk first, then to the service)
//! ```
//! What is particular to the operating system is in [`system`].
//!
//! Everything runs on one thread: a child's parent-death signal is bound to the thread that made it.

pub mod abilities;
pub mod attempt;
pub mod backoff;
pub mod doctor;
pub mod environment;
pub mod error;
pub mod facts;
pub mod handle;
pub mod home;
pub mod join;
pub mod journal;
pub mod life;
pub mod log;
pub mod machine_probe;
pub mod machine_settings;
pub mod masking;
pub mod poll;
pub mod poll_news;
pub mod program;
pub mod relay;
pub mod report;
pub mod share;
pub mod spool;
pub mod system;
pub mod systemd_unit;
pub mod work;
