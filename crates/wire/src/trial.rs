//! Trying a requirement against the yard before anyone submits.

use pennine_core::dispatch::EligibilityCounts;
use pennine_core::requirement::{Explanation, Hint};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to try.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTrial {
    /// The requirement.
    #[serde(rename = "where")]
    pub requirement: String,
    /// The project of the job [default: all pools count]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
}

/// Matching runners it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// The requirement in its normal form.
    #[serde(rename = "where")]
    pub requirement: String,
    /// All of it in a sentence.
    pub message: String,
    pub standing: EligibilityCounts,
    pub explanation: Explanation,
    /// Words that nothing in the yard knows.
    pub hints: Vec<Hint>,
    /// At most 50 runners that satisfy it, those with a free slot first.
    pub runners: Vec<TrialRunner>,
}

/// A runner that satisfies it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialRunner {
    pub runner: String,
    pub pool: String,
    /// Its state as people see it, or `out of reach`.
    pub state: String,
    /// Slots that are free now, for this project.
    pub free: u32,
}
