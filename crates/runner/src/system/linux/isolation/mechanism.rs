//! How the processes of a job are kept together.

use serde::{Deserialize, Serialize};

/// How the processes of an attempt are kept together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Mechanism {
    /// Namespaces of processes, mounts and IPC; the runner is root.
    Namespace,
    /// The same inside a namespace of users; for other users.
    UserNamespace,
    /// A process group and a subreaper only.
    Group,
}

impl Mechanism {
    /// In words, for the log.
    pub fn describe(self) -> &'static str {
        match self {
            Mechanism::Namespace => "its processes have their own pid namespace",
            Mechanism::UserNamespace => "its processes have their own pid and user namespace",
            Mechanism::Group => {
                "pid namespaces are not available here; its processes are only in their own process group"
            }
        }
    }
}
