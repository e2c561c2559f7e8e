//! Jobs and their attempts.

use crate::queue::RemedyAction;
use pennine_core::comparison::ComparedPart;
use pennine_core::dispatch::{Band, EligibilityCounts, Reason, Remedy, SeatNeeds};
use pennine_core::id::{AttemptId, JobId, RunnerId};
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::phase::Phases;
use pennine_core::requirement::{Explanation, Hint};
use pennine_core::secret::{SecretUse, SecretUses};
use pennine_core::size::ByteSize;
use pennine_core::sizing::JobUsage;
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use pennine_core::wait::Span;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What to make a job from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewJob {
    /// The project's path, or its name if that is unique.
    pub project: String,
    /// The requirement; empty for any runner of an open pool.
    #[serde(default, rename = "where")]
    pub requirement: String,
    /// The program and its arguments. It is run as it is, without a shell.
    pub command: Vec<String>,
    /// What to call it; the command's first word when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Variables of its environment.
    #[serde(default)]
    pub variables: BTreeMap<String, String>,
    /// Secrets that it is given, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, SecretUse>)]
    pub secrets: SecretUses,
    /// How long its command may run, in microseconds; an hour when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_limit_us: Option<Micros>,
    /// How many attempts it may have when runners are lost [default: 3] A command that fails is not retried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tries: Option<u32>,
    /// Refuse it if its requirement contains a word that is unknown in the yard.
    #[serde(default)]
    pub strict: bool,
    /// How urgent it is; normal when not given.
    #[serde(default)]
    pub band: Band,
    /// Seats that it takes while it runs, by name.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, u32>)]
    pub seats: SeatNeeds,
    /// Whether its code is trusted. An untrusted job takes no seats, and runs only in pools that take untrusted jobs.
    #[serde(default)]
    pub trust: Trust,
    /// How long it waits at most, in microseconds; the project's patience when not given, or indefinitely.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub give_up_us: Option<Micros>,
    /// Whether it fails at once when nothing in the yard could ever run it.
    #[serde(default)]
    pub fail_unmatched: bool,
}

/// A job that was taken, with what looks wrong about it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakenJob {
    #[serde(flatten)]
    pub job: JobLine,
    /// Words of its requirement that nothing in the yard knows.
    #[serde(default)]
    pub hints: Vec<Hint>,
}

/// A job in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobLine {
    pub id: JobId,
    /// Its short name, `j-4812`.
    pub name: String,
    pub title: String,
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub state: JobState,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<Outcome>,
    /// Why it waits, if it waits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// The runner of its latest attempt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    pub created_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_at: Option<Moment>,
    /// How long it waited, so far if it still waits, over all attempts.
    pub wait_us: Micros,
    /// How long its latest attempt's command ran, so far if it still runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ran_us: Option<Micros>,
}

/// A job, whole.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Job {
    #[serde(flatten)]
    pub line: JobLine,
    /// The run it belongs to, `run-207`.
    pub run: String,
    /// Whether the run was made from a job sheet; a job that was submitted alone has a run of its own.
    #[serde(default)]
    pub is_of_sheet: bool,
    /// What it waits for, where it is held, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_for: Option<String>,
    pub band: Band,
    /// Seats that it takes while it runs.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, u32>)]
    pub seats: SeatNeeds,
    #[serde(default)]
    pub trust: Trust,
    /// When it stops waiting.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub give_up_at: Option<Moment>,
    /// The name of the person or token that has released it, where its job sheet holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub released_by: Option<String>,
    /// The job that was submitted in its place, `j-4813`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retried_as: Option<String>,
    pub command: Vec<String>,
    /// The commands of a job of a job sheet, one after another; they are `command` together.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<String>,
    pub variables: BTreeMap<String, String>,
    /// Secrets that it is given, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, SecretUse>)]
    pub secrets: SecretUses,
    pub time_limit_us: Micros,
    pub tries: u32,
    /// When it first became ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready_at: Option<Moment>,
    /// Why it ended as it did, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_code: Option<i32>,
    /// What to do about its failure, where its log says that a program was not found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// The wait of the attempt that has not begun yet, if it waits.
    pub waiting: Vec<Span>,
    /// Every try, first to last.
    pub attempts: Vec<Attempt>,
    /// When this was true.
    pub now: Moment,
}

/// One try of a job on one runner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub id: AttemptId,
    /// 1 for the first.
    pub number: u32,
    pub state: AttemptState,
    pub runner: String,
    pub runner_id: RunnerId,
    pub pool: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<Outcome>,
    /// Whether its result is the job's.
    pub accepted: bool,
    /// Why it ended as it did, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_code: Option<i32>,
    pub ready_at: Moment,
    pub assigned_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exited_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_at: Option<Moment>,
    /// From ready to started, so far if it has not started.
    pub wait_us: Micros,
    /// That wait, split; the parts add up to it exactly.
    pub wait: Vec<Span>,
    /// When its parts began.
    #[serde(default, skip_serializing_if = "Phases::is_empty")]
    pub phases: Phases,
    /// Processor time of the command and everything it waited for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_us: Option<Micros>,
    /// The largest memory that any one of its processes held.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_memory: Option<ByteSize>,
    /// Bytes that came from storage, without what the system had in memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_read: Option<ByteSize>,
    /// Bytes that were sent to storage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_written: Option<ByteSize>,
    /// The log's length so far.
    pub log_bytes: ByteSize,
    /// Whether the log was cut at its cap.
    pub log_capped: bool,
}

/// A job beside another one, or beside the median of earlier ones like it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// Its short name, `j-4812`.
    pub job: String,
    /// The jobs that it is compared with: one, or those whose median is taken.
    pub with: Vec<String>,
    /// Which took longer, by how much, and in which parts, in a sentence.
    pub message: String,
    /// Its time from submission to end, part by part.
    pub parts: Vec<ComparedPart>,
}

/// Whether the machines that run a job have the right size, from what its last attempts used.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobSizing {
    /// Its short name, `j-4812`.
    pub job: String,
    /// How many attempts this is from: the last 20 at most of jobs of the same project and title, itself included, that have succeeded.
    pub attempts: usize,
    /// What they used, in a sentence; or why nothing is said.
    pub message: String,
    /// None where there are fewer than 5 attempts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<JobUsage>,
    /// What follows for the machine and the time limit, a sentence each.
    pub advice: Vec<String>,
}

/// Why a job waits, and what would run it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WaitExplanation {
    pub job: String,
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub state: JobState,
    /// The reason, if it waits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// All of it in a sentence.
    pub message: String,
    pub standing: EligibilityCounts,
    pub explanation: Explanation,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<Remedy>,
    /// What a person can press.
    #[serde(default)]
    pub actions: Vec<RemedyAction>,
    /// How many jobs of its strand are before it.
    pub before: u64,
    pub waited_us: Micros,
    /// The wait so far, split.
    pub waiting: Vec<Span>,
}
