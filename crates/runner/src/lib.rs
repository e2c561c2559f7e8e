//! The program on the machine: joins a pool, polls for work, runs it, tells what came of it.
//!
//! ```text
//!   work (one outstanding poll) --> attempt (workspace, time limit, report)
//!                                      |-- keeper  (the processes: a namespace that dies with the runner)
//!                                      `-- spool   (the log: on disk first, then to the service)
//! ```
//! Everything runs on one thread: a child's parent-death signal is bound to the thread that made it.

pub mod attempt;
pub mod facts;
pub mod home;
pub mod join;
pub mod keeper;
pub mod life;
pub mod program;
pub mod spool;
pub mod work;
