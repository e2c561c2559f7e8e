//! Maintenance windows.

use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stretch of time in which a pool, or one runner, is to take nothing new. What runs goes on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMaintenance {
    /// The pool; or the runner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    /// When it begins; now when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Moment>,
    /// How long it lasts: more than nothing, and at most 90 days.
    pub length_us: Micros,
    /// The reason, shown to the owners of waiting jobs.
    pub reason: String,
}

/// Maintenance that is on or to come.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Maintenance {
    /// Its short name, `m-3`.
    pub name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    pub from: Moment,
    pub until: Moment,
    /// Whether it is on now.
    pub on: bool,
    pub reason: String,
    pub by: String,
}
