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
//! A and B are made ahead of time for a free slot ([`KeeperLauncher`]): when a job comes, only C is still to be started.
//! The runner and B talk over a socket pair, B's standard input, in lines of JSON; the command's output goes through
//! a pipe that A and B let go of as soon as C has it.

mod inner;
mod leftovers;
mod outer;

pub use inner::run_keeper;
pub use leftovers::{MARKER, end_leftovers};
pub use outer::{KeeperLauncher, ProcessGroup, Running, StartError};

use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// How the processes of an attempt are kept together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Isolation {
    /// A pid namespace; the runner is root.
    Namespace,
    /// A pid namespace inside a user namespace; for other users.
    UserNamespace,
    /// A process group and a subreaper only.
    Group,
}

impl Isolation {
    /// In words, for the log.
    pub fn describe(self) -> &'static str {
        match self {
            Isolation::Namespace => "its processes have their own pid namespace",
            Isolation::UserNamespace => "its processes have their own pid and user namespace",
            Isolation::Group => {
                "pid namespaces are not available here; its processes are only in their own process group"
            }
        }
    }

    /// Its word on the command line.
    fn word(self) -> &'static str {
        match self {
            Isolation::Namespace => "namespace",
            Isolation::UserNamespace => "user-namespace",
            Isolation::Group => "group",
        }
    }
}

/// What is to be started.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Order {
    pub program: String,
    pub arguments: Vec<String>,
    pub folder: PathBuf,
    /// Its whole environment.
    pub variables: BTreeMap<String, String>,
}

/// What B tells, one line each.
#[derive(Serialize, Deserialize)]
enum KeeperMessage {
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
}
