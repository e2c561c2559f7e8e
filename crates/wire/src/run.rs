//! Runs: the jobs of a job sheet that were submitted together.

use crate::JobLine;
use pennine_core::id::{RunId, SourceId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::requirement::Hint;
use pennine_core::run::RunState;
use pennine_core::sheet::RunOverrides;
use pennine_core::size::ByteSize;
use pennine_core::source::Repository;
use pennine_core::time::Moment;
use pennine_core::trust::Trust;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What to make a run from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRun {
    /// The project's path, or its name if that is unique.
    pub project: String,
    /// The text of the job sheet, `pennine.toml`.
    pub sheet: String,
    /// What to call it; the names of its jobs when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The branch that it is of. A newer run of the same branch can overtake it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// The revision that it is of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
    /// Why it was submitted: `manual` when not given, or a word of your own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Values in place of the sheet's own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub values: BTreeMap<String, String>,
    /// Whether its code is trusted.
    #[serde(default)]
    pub trust: Trust,
    /// The files that its jobs begin with: an archive that was uploaded for the same project. Each begins with an empty workspace
    /// when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceId>,
    /// The revision of a repository that its jobs begin with, in place of an archive. It is the run's `revision`, too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repository: Option<Repository>,
    /// What this run does otherwise than its sheet says.
    #[serde(default, skip_serializing_if = "RunOverrides::is_empty")]
    pub overrides: RunOverrides,
}

/// The files of a folder, uploaded for a run of a project.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UploadedSource {
    pub id: SourceId,
    /// The size of the archive.
    pub bytes: ByteSize,
    /// The SHA-256 of the archive, in hexadecimal.
    pub digest: String,
}

/// How many jobs of a run are in which state.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RunCounts {
    pub held: u32,
    pub pending: u32,
    /// Executing or finalizing.
    pub executing: u32,
    pub success: u32,
    /// Ended with a failure, an error or by its time limit.
    pub failure: u32,
    pub cancellation: u32,
    pub skip: u32,
}

/// A run in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunLine {
    pub id: RunId,
    /// Its short name, `run-207`.
    pub name: String,
    pub title: String,
    pub project: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Whether it was made from a job sheet; a job that was submitted alone has a run of its own.
    pub has_sheet: bool,
    /// The job that was submitted alone, `j-4812`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_job: Option<String>,
    pub state: RunState,
    /// The worst result of its jobs, where all of them are done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<Outcome>,
    /// The run that has overtaken it, `run-208`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub overtaken_by: Option<String>,
    pub created_at: Moment,
    pub created_by: String,
    /// When its last job was done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_at: Option<Moment>,
    pub jobs: RunCounts,
}

/// A run with its jobs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Run {
    #[serde(flatten)]
    pub line: RunLine,
    /// The address of the repository that its jobs begin with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repository: Option<String>,
    /// Its values, those of the sheet included.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// What it does otherwise than its sheet says.
    #[serde(default, skip_serializing_if = "RunOverrides::is_empty")]
    pub overrides: RunOverrides,
    /// The same in words: `build: where gcc >= 13`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub overridden: Vec<String>,
    /// Its jobs, in the order of the sheet; a job that was tried again stands there as its latest one.
    pub graph: Vec<RunJob>,
    /// The chain of jobs that made it as long as it is, first to last: their short names.
    #[serde(default)]
    pub critical_path: Vec<String>,
    /// When this was true.
    pub now: Moment,
}

/// A job of a run.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunJob {
    pub job: JobLine,
    /// From 1: the jobs of a step wait only for jobs of earlier ones.
    pub step: u32,
    /// The jobs that it waits for.
    #[serde(default)]
    pub after: Vec<RunNeed>,
    /// What it waits for, where it is held, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_for: Option<String>,
    /// Whether a person still has to release it.
    #[serde(default)]
    pub needs_release: bool,
    /// Why it ended as it did, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

/// A job that another one waits for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunNeed {
    /// Its short name, `j-4812`.
    pub job: String,
    /// Its name in the sheet.
    pub title: String,
    /// Whether it has to end with success; its end is enough otherwise.
    pub success: bool,
}

/// A run that was submitted, with what looks wrong about its requirements.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakenRun {
    #[serde(flatten)]
    pub run: Run,
    /// Words of requirements that nothing in the yard knows.
    #[serde(default)]
    pub hints: Vec<RunHint>,
}

/// A word of a job's requirement that nothing in the yard knows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunHint {
    /// The job's name in the sheet.
    pub job: String,
    #[serde(flatten)]
    pub hint: Hint,
}

/// Which jobs of a run to try again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunRetry {
    /// Their names in the sheet, or their short names. Without any: every job that ended without success, skipped ones included.
    #[serde(default)]
    pub jobs: Vec<String>,
    /// Whether jobs that needed these, and have succeeded, are tried again, too.
    #[serde(default)]
    pub with_dependents: bool,
}
