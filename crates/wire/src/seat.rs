//! Seats: counted resources that jobs take while they run.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a kind of seat from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSeat {
    /// Letters, digits, `-` and `_`.
    pub name: String,
    /// How many there are.
    pub count: u32,
    /// What they are, for people.
    #[serde(default)]
    pub description: String,
}

/// What to change of a kind of seat. What is not given stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SeatChange {
    /// The new count. Lowered under use it drains: nothing is ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
}

/// A kind of seat, and who has them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Seat {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub name: String,
    pub description: String,
    pub count: u32,
    pub taken: u32,
    /// Those of the holders that may be seen.
    pub holders: Vec<SeatHolder>,
    /// The jobs for which they are kept back once they come free, the oldest first: each has waited long and needs several.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept_back: Vec<KeptSeats>,
}

/// Seats that are kept back for a job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeptSeats {
    /// The job's short name; empty for those who do not see the whole installation.
    pub job: String,
    /// How many it needs.
    pub count: u32,
}

/// A job that holds seats, or had them taken back and still runs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeatHolder {
    /// The job's short name.
    pub job: String,
    pub project: String,
    pub runner: String,
    pub count: u32,
    pub since: Moment,
    /// When a person took them back, and who it was, and why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_back: Option<ReleasedSeats>,
}

/// Seats that a person took back from a job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReleasedSeats {
    pub at: Moment,
    pub by: String,
    pub reason: String,
}

/// From whom to take seats back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeBack {
    /// The job that holds them.
    pub job: String,
    /// Reason, for the record.
    pub reason: String,
}
