//! Targets: promises about waits, and how they stand.

use pennine_core::measure::rank::PerMille;
use pennine_core::target::{Objective, TargetStanding};
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a target from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewTarget {
    pub name: String,
    /// Only waits of jobs on this pool.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// Only waits of this team's or project's jobs. Neither a pool nor a place: all jobs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// How many of the waits, in thousandths: 500 to 999.
    pub share: PerMille,
    /// How long they take at most, in microseconds: 1 s to 7 days.
    pub within_us: Micros,
    /// The window in days: 1 to 90.
    pub days: u32,
}

/// What to change of a target. What is not given stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TargetChange {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<PerMille>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub within_us: Option<Micros>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
}

/// A target.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Target {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    pub promise: Objective,
    /// The promise as one line.
    pub message: String,
    pub standing: TargetStanding,
    pub created_at: Moment,
    pub created_by: String,
}
