//! Pools.

use crate::{CapacityDecision, SupplyChange, SupplyStanding};
use pennine_core::capacity::Supply;
use pennine_core::id::PoolId;
use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a pool from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPool {
    /// Letters, digits, `-` and `_`; unique in the installation.
    pub name: String,
    /// Description these are, for people.
    #[serde(default)]
    pub description: String,
    /// Labels that every runner of the pool has.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Whether it accepts jobs without a requirement; it does when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open: Option<bool>,
    /// The path of the team or project that owns it; none for the root. Everything at or below may use it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// What a machine has to be to join it, in the requirement language: `mem >= 8GiB and has gcc`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs: Option<String>,
    /// How it gets machines; people bring them when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub supply: Option<SupplyChange>,
    /// What its jobs may reach and use on their machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<JobPolicyChange>,
    /// Another pool, from which everything that is not given is taken, its reach too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
}

/// What to change of a pool. What is not given stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PoolChange {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub labels: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open: Option<bool>,
    /// The path of its owner, a team or project; empty for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Narrow it to these teams and projects; empty for everything at or below the owner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub narrow_to: Option<Vec<String>>,
    /// Let these teams and projects use it besides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub widen_to: Option<Vec<String>>,
    /// Whether it accepts untrusted jobs. Needs single-use machines that share no host or run jobs in a sandbox.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub takes_untrusted: Option<bool>,
    /// Whether a project's first use has to be approved.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asks_approval: Option<bool>,
    /// Whether its runners take nothing new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// The requirement for machines that join it; empty for any. Runners that have joined stay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs: Option<String>,
    /// How it gets machines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub supply: Option<SupplyChange>,
    /// What its jobs may reach and use on their machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<JobPolicyChange>,
    /// Only show what would change.
    #[serde(default)]
    pub preview: bool,
    /// Proceed although jobs would be left without a runner.
    #[serde(default)]
    pub accept_losses: bool,
}

/// What to change of what a pool's jobs may reach and use. What is not given stays.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct JobPolicyChange {
    /// How far jobs are kept from their machine; `process` for a new pool.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub isolation: Option<IsolationLevel>,
    /// Whether jobs in a sandbox reach the network; they do for a new pool.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub network: Option<bool>,
    /// The most memory of a job, in bytes; 0 for no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<ByteSize>,
    /// The most processes and threads of a job; 0 for no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processes: Option<u32>,
    /// The most processor cores that a job keeps busy; 0 for no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cores: Option<u32>,
    /// The most disk space of a job, in bytes; 0 for no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<ByteSize>,
}

impl From<JobPolicy> for JobPolicyChange {
    fn from(policy: JobPolicy) -> Self {
        let limits = policy.limits;
        JobPolicyChange {
            isolation: Some(policy.isolation),
            network: Some(policy.network),
            memory: Some(limits.memory.unwrap_or_default()),
            processes: Some(limits.processes.unwrap_or_default()),
            cores: Some(limits.cores.unwrap_or_default()),
            disk: Some(limits.disk.unwrap_or_default()),
        }
    }
}

/// How to remove a pool.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PoolRemoval {
    /// Although it has runners: they are retired, and their jobs are retried elsewhere.
    pub force: bool,
    /// Although jobs would be left that nothing can run.
    pub accept_losses: bool,
}

/// What a change of the yard did, or would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangedPool {
    pub pool: Pool,
    /// Whether it was done.
    pub done: bool,
    /// Who can run nowhere any more what could run before.
    pub losses: Vec<Loss>,
    /// What the keeper would decide at once, where the pool gets machines.
    #[serde(default)]
    pub decisions: Vec<CapacityDecision>,
}

/// Jobs that only what was changed could run.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Loss {
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    /// How many of them wait.
    pub waiting: u64,
    /// How many were submitted in the last 30 days.
    pub recent: u64,
}

/// A pool of runners.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Pool {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub id: PoolId,
    pub name: String,
    pub description: String,
    pub labels: Vec<String>,
    pub open: bool,
    /// The owner's path; empty for the root.
    pub owner: String,
    /// Who of them may use it; everything at or below the owner when empty.
    #[serde(default)]
    pub narrow_to: Vec<String>,
    /// Who may use it besides.
    #[serde(default)]
    pub widen_to: Vec<String>,
    /// Whether it takes untrusted jobs as well.
    #[serde(default)]
    pub takes_untrusted: bool,
    /// Whether a project's first use has to be approved.
    #[serde(default)]
    pub asks_approval: bool,
    /// The paths of the visible projects whose use was approved.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub approved: Vec<String>,
    /// Whether its runners take nothing new.
    #[serde(default)]
    pub paused: bool,
    /// What a machine has to be to join it; empty for nothing in particular.
    #[serde(default)]
    pub needs: String,
    /// What its jobs may reach and use on their machine.
    pub jobs: JobPolicy,
    /// How it gets machines; people bring them when this is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub supply: Option<Supply>,
    /// How it stands, where it gets machines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub standing: Option<SupplyStanding>,
    /// How many of its runners are in which state.
    pub runners: RunnerCounts,
    /// Slots of its connected runners that take work, and how many of them are free.
    pub slots: u32,
    pub free: u32,
    pub created_at: Moment,
}

/// Runners by state.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RunnerCounts {
    pub awaited: u32,
    pub available: u32,
    pub busy: u32,
    pub draining: u32,
    pub paused: u32,
    pub offline: u32,
}

impl RunnerCounts {
    /// All that ever connected and are not retired.
    pub fn joined(&self) -> u32 {
        self.available + self.busy + self.draining + self.paused + self.offline
    }
}

/// Approves the use of a pool: by a project for good, or by one job that waits. Give one of them.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PoolApproval {
    /// The project's path, or its name if that is unique.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// The job's short name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
}

/// Withdraws a project's approval. Its jobs that run go on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ApprovalWithdrawal {
    /// The project's path.
    pub project: String,
}
