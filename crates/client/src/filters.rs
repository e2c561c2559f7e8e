//! What lists and figures are narrowed to.

use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::{Micros, Moment};
use pennine_wire::By;
use serde::Serialize;

/// Which runners are asked for; all of them when nothing is said.
#[derive(Clone, Debug, Default, Serialize)]
pub struct RunnerFilter {
    /// Only runners that satisfy this requirement.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub requirement: Option<String>,
    /// Those of this pool.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// Those in this state.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<RunnerState>,
}

/// Which decisions about machines; all when empty.
#[derive(Clone, Debug, Default, Serialize)]
pub struct DecisionFilter {
    /// A pool, by name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// A text that the decision's message contains.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
}

/// Which entries of the audit log a list shows; those of the last week when nothing is given.
#[derive(Clone, Debug, Default, Serialize)]
pub struct AuditFilter {
    /// A person, with own tokens, or a token, by name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// A text that the subject's name contains.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// A kind of action, or the first part of one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// The path of a team or project, with everything below it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_us: Option<Micros>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Moment>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// Where the page before ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}

/// Which jobs a list shows; all of them when nothing is given.
#[derive(Clone, Debug, Default, Serialize)]
pub struct JobListFilter {
    /// Their states, joined with commas.
    #[serde(rename = "state", skip_serializing_if = "Option::is_none")]
    pub states: Option<String>,
    /// A project, by its path, or by its name if that is unique.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// A team, with the teams below it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// A text that the job's name, title, project, requirement, result, runner or submitter contains.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
}

/// Which runs a list shows; all of them when nothing is given.
#[derive(Clone, Debug, Default, Serialize)]
pub struct RunListFilter {
    /// A project, by its path, or by its name if that is unique.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// A team, with the teams below it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// A text that the run's name, title, project, branch, revision or submitter contains.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// Only runs of job sheets.
    pub with_sheet: bool,
    /// The cursor of the page before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// How many; 50 when not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// Which part of the queue is asked for; an overview of all of it when nothing is given.
#[derive(Clone, Debug, Default, Serialize)]
pub struct QueueFilter {
    /// Only jobs that wait for this reason; their strands are then listed page by page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// Only jobs for which this is missing: a group's `cause`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cause: Option<String>,
    /// A project, by its path, or by its name if that is unique.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// A team, with the teams below it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Only jobs with an equivalent requirement.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub requirement: Option<String>,
    /// The `next` of the page before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// How many strands of a reason: 1 to 100.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// Of what figures are asked, and when; of everything in the last day when nothing is said.
#[derive(Clone, Debug, Default, Serialize)]
pub struct TrendFilter {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Moment>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_us: Option<Micros>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub requirement: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub supplier: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<By>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub compare: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

impl RunnerFilter {
    /// Whether it asks for all of them.
    pub fn is_any(&self) -> bool {
        self.requirement.is_none() && self.pool.is_none() && self.state.is_none()
    }
}
