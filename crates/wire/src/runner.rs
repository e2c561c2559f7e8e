//! Runners, as people see them.

use pennine_core::fact::Facts;
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::runner::{RunnerState, Wish};
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A runner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Runner {
    pub id: RunnerId,
    /// Its short name, `r-18`.
    pub short: String,
    /// Its name, unique in its pool among runners that are not retired.
    pub name: String,
    pub pool: String,
    pub state: RunnerState,
    /// Since when it is in this state.
    pub since: Moment,
    /// Why, in words.
    pub why: String,
    /// What people want of it.
    pub wish: Wish,
    pub slots: u32,
    /// Slots in use.
    pub used: u32,
    /// Its own labels; its pool's are not repeated.
    pub labels: Vec<String>,
    pub pool_labels: Vec<String>,
    pub facts: Facts,
    /// The version of the program on the machine.
    pub version: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_at: Option<Moment>,
    /// What it executes now.
    pub executing: Vec<RunnerJob>,
    pub created_at: Moment,
}

/// A job that a runner has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerJob {
    /// The job's short name.
    pub job: String,
    pub title: String,
    pub project: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_at: Option<Moment>,
}
