//! Runners, as people see them.

use crate::Loss;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::finding::{Finding, Verdict};
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::overrides::Overrides;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A runner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Runner {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
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
    pub reason: String,
    /// What people want of it.
    pub desired_state: DesiredState,
    pub slots: u32,
    /// Slots in use.
    pub used: u32,
    /// Its own labels; its pool's are not repeated.
    pub labels: Vec<String>,
    pub pool_labels: Vec<String>,
    #[schema(value_type = std::collections::BTreeMap<String, pennine_core::fact::FactValue>)]
    pub facts: Facts,
    /// The version of the program on the machine.
    pub version: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_at: Option<Moment>,
    /// What it executes now.
    pub executing: Vec<RunnerJob>,
    /// What is not as it should be on its machine, by its own word.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
    /// What people say it is for.
    #[serde(default)]
    pub description: String,
    /// What people set of it over what its machine says, with who did and when.
    #[serde(default)]
    pub set: Overrides,
    pub created_at: Moment,
}

/// A change of a runner. What is not named stays. As in a JSON merge patch (RFC 7396), `null` takes back what people
/// set, and what its machine says counts again.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunnerChange {
    /// Its new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// How many jobs it takes at once.
    #[serde(
        default,
        deserialize_with = "named",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<u32>)]
    pub slots: Option<Option<u32>>,
    /// Labels that it is to have (true) or not to have (false).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Option<bool>>,
    /// Facts that override those of its machine.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = BTreeMap<String, Option<String>>)]
    pub facts: BTreeMap<String, Option<FactValue>>,
    /// Environment variables of every job that it runs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, Option<String>>,
    /// Folders in which programs are looked for first.
    #[serde(
        default,
        deserialize_with = "named",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<Vec<String>>)]
    pub paths: Option<Option<Vec<String>>>,
    /// Only show what would change.
    #[serde(default)]
    pub preview: bool,
    /// Proceed although jobs would be left without a runner.
    #[serde(default)]
    pub accept_losses: bool,
}

/// A field that is there, be it `null`.
fn named<'de, D, T>(from: D) -> Result<Option<T>, D::Error>
where
    D: serde::Deserializer<'de>,
    T: Deserialize<'de>,
{
    T::deserialize(from).map(Some)
}

/// Retiring a runner.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Retirement {
    /// End its jobs; they are retried elsewhere.
    #[serde(default)]
    pub force: bool,
    /// Only show what would change.
    #[serde(default)]
    pub preview: bool,
    /// Proceed although jobs would be left without a runner.
    #[serde(default)]
    pub accept_losses: bool,
}

/// What a change of a runner did, or would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangedRunner {
    pub runner: Runner,
    /// Whether it was done.
    pub done: bool,
    /// Who can run nowhere any more what could run before.
    pub losses: Vec<Loss>,
    /// Its jobs that it ends, which are retried elsewhere.
    pub ends: Vec<RunnerJob>,
}

/// What was found out about a runner, from the service's end.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checkup {
    pub runner: String,
    /// How it stands, in one sentence.
    pub message: String,
    /// The worst of the findings.
    pub verdict: Verdict,
    pub findings: Vec<Finding>,
}

/// Taking a scarce runner back from the jobs that have it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeRunnerBack {
    /// The reason, recorded and shown to the owners of its jobs.
    pub reason: String,
}

/// A job that would be next on a runner, if slots of it became free now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NextJob {
    pub job: String,
    pub title: String,
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub waits_since: Moment,
}

/// What a runner did with one slot, for a while.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TimelineSpan {
    /// The job's name. Empty, like its title and project, where the job belongs to a place that may not be seen.
    pub job: String,
    pub title: String,
    pub project: String,
    /// When it was given to the runner, when its command began, and when it ended; the latter two where they have.
    pub from: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<Outcome>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

/// A runner was in a state for a while.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StateStretch {
    pub from: Moment,
    pub state: RunnerState,
    pub reason: String,
}

/// What runners did over the last hours.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerTime {
    pub runner: RunnerId,
    pub slots: u32,
    /// What ran in each slot, the oldest first.
    pub lanes: Vec<Vec<TimelineSpan>>,
    /// Changes of its state, the oldest first; the first holds from before the stretch that was asked for.
    pub states: Vec<StateStretch>,
    /// Whether there was more than is shown: its beginning is then later than what was asked for.
    pub cut: bool,
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
