//! The processes of one attempt, kept together and ended together.
//!
//! ```text
//!   runner ── A ── B ── C ── …        A: this program again (`keep`); waits for B
//!                  └── pid 1 of the   B: starts C when told, reaps, reports; when it exits the kernel ends the rest
//!                      namespace      C: the command
//! ```
//! A and B carry a parent-death signal, so whatever ends the runner ends A, then B, and with B, pid 1 of its
//! namespace, every process of the attempt, however it was detached. Where no namespace is available, B becomes a
//! subreaper, which outlives A by the moment that it needs to end whatever came to it; what is left when B itself was
//! killed is found at the next start of the runner by the marker in its environment ([`end_leftovers`]).
//!
//! A and B are made ahead of time for a free slot ([`KeeperLauncher`]), with the folder in which the job will run, what is
//! hidden from it, its user and its limits ([`isolation`](super::isolation)): when a job comes, only C is still to be started.
//! The runner and B talk over a socket pair, B's standard input, in lines of JSON; the command's output goes through
//! a pipe that A and B let go of as soon as C has it.

mod inner;
mod leftovers;
mod outer;

pub use inner::{run_command, run_keeper};
pub use leftovers::{MARKER, end_leftovers};
pub use outer::{KeeperLauncher, ProcessGroup, Running, StartError};

pub use super::isolation::Mechanism;
use super::isolation::{Enclosure, JobUser};
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// What a keeper is started with.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct KeeperSettings {
    /// The process that started it, which must still be its parent.
    pub runner: i32,
    pub mechanism: Mechanism,
    /// The user that the command is, where the runner is root.
    pub user: Option<JobUser>,
    /// What surrounds the command; nothing at the level `none`.
    pub enclosure: Option<Enclosure>,
    /// The files through which it joins the control groups of the job.
    pub groups: Vec<PathBuf>,
    /// The most processes of the job's user, where it has one of its own.
    pub most_processes: Option<u32>,
}

/// What is to be started.
#[derive(Clone, Default, Serialize, Deserialize)]
pub struct Order {
    pub program: String,
    pub arguments: Vec<String>,
    pub folder: PathBuf,
    /// Its whole environment.
    pub variables: BTreeMap<String, String>,
    /// Files of secrets, by name, which the command alone can read, and the folder that they are written to.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secret_files: BTreeMap<String, String>,
    #[serde(default)]
    pub secrets_folder: PathBuf,
}

/// What B tells, one line each.
#[derive(Serialize, Deserialize)]
enum KeeperMessage {
    /// Everything around the command is made.
    Ready,
    /// It cannot be made: why.
    Unfit(String),
    /// The command's exec has returned.
    Started,
    /// It could not be started: the system's error number.
    Refused(i32),
    /// It has ended.
    Ended(CommandEnd),
}

/// How the command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ExitKind {
    /// By itself, with this code.
    Exited(i32),
    /// By this signal.
    Signalled(i32),
}

/// How the command ended, and what it used.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct CommandEnd {
    pub status: ExitKind,
    /// Processor time of the command and everything it waited for.
    pub processor: Micros,
    /// The largest memory that any one of its processes held.
    pub peak_memory: ByteSize,
    /// Bytes that came from storage, without what the system had in memory, and bytes that were sent there.
    pub bytes_read: ByteSize,
    pub bytes_written: ByteSize,
    /// Whether a disk of its own had no space left in the end.
    pub disk_is_full: bool,
}
