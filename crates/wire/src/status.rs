//! How things stand now.

use crate::alert::Alert;
use crate::job::JobLine;
use crate::pool::RunnerCounts;
use pennine_core::answer::SentencePart;
use pennine_core::queue_sample::{LevelStep, QueueSample};
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How things stand now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The answer line as plain text.
    pub answer: String,
    /// The answer line with its links.
    pub pieces: Vec<SentencePart>,
    /// Jobs that wait for a runner.
    pub waiting: u64,
    /// Jobs that a runner has.
    pub executing: u64,
    /// Slots of connected runners that take work, and how many are free.
    pub slots: u64,
    pub free: u64,
    /// How long the job has waited that waits longest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub longest_wait_us: Option<Micros>,
    pub runners: RunnerCounts,
    /// The open alerts, urgent ones first.
    #[serde(default)]
    pub alerts: Vec<Alert>,
    /// The jobs that executes now or ended last.
    pub latest: Vec<JobLine>,
    pub now: Moment,
}

/// The last hour of the whole yard.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Skyline {
    /// The window's end.
    pub now: Moment,
    /// The window's length.
    pub window_us: Micros,
    /// The length of one step.
    pub step_us: Micros,
    /// Steps with a reading, oldest first. A step of which no data is not there.
    pub steps: Vec<LevelStep>,
    /// The reading now.
    pub level: QueueSample,
}

/// One change, as the event stream tells it. `id` of the stream's event is the cursor to resume from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// What happened, as noun and verb: `job.started`.
    pub kind: String,
    /// The id of the thing it happened to.
    pub subject: uuid::Uuid,
    /// When.
    pub at: Moment,
    /// More about it.
    pub body: serde_json::Value,
}
