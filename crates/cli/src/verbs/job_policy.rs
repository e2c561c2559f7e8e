//! What jobs of a pool may reach and use: the options of `pennine pool add` and `set`, and the lines of `show`.

use crate::view;
use clap::Args;
use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use pennine_core::size::ByteSize;
use pennine_wire::JobPolicyChange;

/// What jobs of the pool may reach and use.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Jobs")]
pub struct JobArguments {
    /// How far jobs are kept from their machine: none, process or sandbox [default for a new pool: process]
    #[arg(long, value_name = "LEVEL", value_parser = view::word::<IsolationLevel>)]
    isolation: Option<IsolationLevel>,
    /// Whether jobs in a sandbox reach the network [default for a new pool: true]
    #[arg(long, value_name = "true|false")]
    network: Option<bool>,
    /// The most memory of a job: 4GiB; none for no limit.
    #[arg(long, value_name = "SIZE", value_parser = size)]
    job_memory: Option<ByteSize>,
    /// The most processes and threads of a job; none for no limit.
    #[arg(long, value_name = "N", value_parser = count)]
    job_processes: Option<u32>,
    /// The most processor cores that a job keeps busy; none for no limit.
    #[arg(long, value_name = "N", value_parser = count)]
    job_cores: Option<u32>,
    /// The most disk space of a job: 20GiB; none for no limit.
    #[arg(long, value_name = "SIZE", value_parser = size)]
    job_disk: Option<ByteSize>,
}

/// A limit of size; 0 for none.
fn size(text: &str) -> Result<ByteSize, String> {
    match text {
        "none" => Ok(ByteSize(0)),
        text => text
            .parse()
            .map_err(|error: pennine_core::size::NotASize| error.to_string()),
    }
}

/// A limit of a number; 0 for none.
fn count(text: &str) -> Result<u32, String> {
    match text {
        "none" => Ok(0),
        text => text
            .parse()
            .map_err(|_| format!("{text:?} is not a whole number; for no limit: none")),
    }
}

impl JobArguments {
    /// What to change; nothing where no option was given.
    pub fn change(self) -> Option<JobPolicyChange> {
        let change = JobPolicyChange {
            isolation: self.isolation,
            network: self.network,
            memory: self.job_memory,
            processes: self.job_processes,
            cores: self.job_cores,
            disk: self.job_disk,
        };
        (change != JobPolicyChange::default()).then_some(change)
    }
}

/// How jobs are kept, in a line.
pub fn shown(policy: &JobPolicy) -> String {
    let mut parts = vec![format!("isolation {}", policy.isolation)];
    if policy.isolation == IsolationLevel::Sandbox && !policy.network {
        parts.push("no network".to_owned());
    }
    let limits = policy.limits;
    parts.extend(limits.memory.map(|memory| format!("memory {memory}")));
    parts.extend(limits.processes.map(|count| format!("{count} processes")));
    parts.extend(
        limits
            .cores
            .map(|cores| format!("{cores} {}", if cores == 1 { "core" } else { "cores" })),
    );
    parts.extend(limits.disk.map(|disk| format!("disk {disk}")));
    format!("  jobs: {}\n", parts.join(", "))
}
