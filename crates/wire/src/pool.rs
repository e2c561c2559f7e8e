//! Pools.

use pennine_core::id::PoolId;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

fn yes() -> bool {
    true
}

/// What to make a pool from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPool {
    /// Letters, digits, `-` and `_`; unique in the installation.
    pub name: String,
    /// What kind of machines these are, for people.
    #[serde(default)]
    pub description: String,
    /// Labels that every runner of the pool has.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Whether it takes jobs that ask for nothing.
    #[serde(default = "yes")]
    pub open: bool,
    /// The path of the team or project that owns it; none for the root. Everything at or below may use it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
}

/// A pool of runners.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Pool {
    pub id: PoolId,
    pub name: String,
    pub description: String,
    pub labels: Vec<String>,
    pub open: bool,
    /// The owner's path; empty for the root.
    pub owner: String,
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
