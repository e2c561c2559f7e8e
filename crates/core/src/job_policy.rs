//! What the jobs of a pool may reach and use on their machine.

use crate::lifecycle::words;
use crate::size::ByteSize;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How far a job is kept from its machine. Each level keeps it from at least what the level before does.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum IsolationLevel {
    /// Not at all: the job can do whatever the runner's user can.
    None,
    /// Namespaces of its own for processes, mounts and IPC; the runner's folder, other jobs and the user's home are hidden;
    /// another user where the runner is root. It shares the machine's network.
    #[default]
    Process,
    /// Also a read-only system, no privileges, a filter of system calls, and the network on request only.
    Sandbox,
}

words!(IsolationLevel {
    None = "none",
    Process = "process",
    Sandbox = "sandbox",
});

/// The most that one job may use. No limit where nothing is given.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct JobLimits {
    /// Memory of all its processes together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<ByteSize>,
    /// Processes and threads at once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processes: Option<u32>,
    /// Processor cores that it keeps busy.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cores: Option<u32>,
    /// Disk space of its workspace, its home and its temporary files together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<ByteSize>,
}

/// What the jobs of a pool may reach and use.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct JobPolicy {
    pub isolation: IsolationLevel,
    /// Whether a job in a sandbox reaches the network. Below the level `sandbox` it always does.
    pub network: bool,
    pub limits: JobLimits,
}

impl Default for JobPolicy {
    fn default() -> Self {
        JobPolicy {
            isolation: IsolationLevel::default(),
            network: true,
            limits: JobLimits::default(),
        }
    }
}

/// Why a limit makes no sense.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum InvalidLimit {
    /// With less memory no program starts.
    #[error("a job needs at least 16MiB of memory")]
    Memory,
    /// With fewer processes no build runs.
    #[error("a job needs at least 8 processes")]
    Processes,
    /// Nothing would run at all.
    #[error("a job needs at least 1 core")]
    Cores,
    /// Not even its files fit.
    #[error("a job needs at least 16MiB of disk")]
    Disk,
}

/// The least memory and disk of a job.
const LEAST: ByteSize = ByteSize(16 << 20);
/// The fewest processes of a job.
const FEWEST: u32 = 8;

impl JobLimits {
    /// Checks that a job can run within them.
    pub fn check(&self) -> Result<(), InvalidLimit> {
        if self.memory.is_some_and(|memory| memory < LEAST) {
            return Err(InvalidLimit::Memory);
        }
        if self.processes.is_some_and(|processes| processes < FEWEST) {
            return Err(InvalidLimit::Processes);
        }
        if self.cores == Some(0) {
            return Err(InvalidLimit::Cores);
        }
        if self.disk.is_some_and(|disk| disk < LEAST) {
            return Err(InvalidLimit::Disk);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_are_ordered_and_the_default_is_process() {
        assert!(IsolationLevel::None < IsolationLevel::Process);
        assert!(IsolationLevel::Process < IsolationLevel::Sandbox);
        let policy: JobPolicy = serde_json::from_str("{}").unwrap();
        assert_eq!(policy.isolation, IsolationLevel::Process);
        assert!(policy.network);
    }

    #[test]
    fn limits_below_what_a_job_needs_are_refused() {
        let memory = |bytes| JobLimits {
            memory: Some(ByteSize(bytes)),
            ..JobLimits::default()
        };
        assert_eq!(memory(1 << 20).check(), Err(InvalidLimit::Memory));
        assert_eq!(memory(1 << 30).check(), Ok(()));
        let none = JobLimits {
            cores: Some(0),
            ..JobLimits::default()
        };
        assert_eq!(none.check(), Err(InvalidLimit::Cores));
        assert_eq!(JobLimits::default().check(), Ok(()));
    }
}
