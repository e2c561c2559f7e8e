//! What a run amounts to, by its jobs.

use crate::lifecycle::job::{JobState, Outcome};
use crate::lifecycle::words;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a run is.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// All of its jobs that are not done wait for a person.
    Held,
    /// Jobs wait for runners, and none executes.
    Pending,
    /// A job executes.
    Executing,
    /// Every job has a result.
    Done,
}

words!(RunState { Held = "held", Pending = "pending", Executing = "executing", Done = "done" });

/// The state of a run with jobs in these states.
pub fn state(jobs: impl IntoIterator<Item = JobState>) -> RunState {
    let mut found = RunState::Done;
    for job in jobs {
        let own = match job {
            JobState::Done => continue,
            JobState::Executing | JobState::Finalizing => return RunState::Executing,
            JobState::Pending => RunState::Pending,
            JobState::Held => RunState::Held,
        };
        found = match found {
            RunState::Pending => RunState::Pending,
            _ => own,
        };
    }
    found
}

/// The result of a run whose jobs ended so: the worst of theirs. A run in which every job was skipped is skipped.
pub fn outcome(jobs: impl IntoIterator<Item = Outcome>) -> Outcome {
    let severity = |result: &Outcome| match result {
        Outcome::Skip => 0,
        Outcome::Success => 1,
        Outcome::Cancellation => 2,
        Outcome::Timeout => 3,
        Outcome::Error => 4,
        Outcome::Failure => 5,
    };
    jobs.into_iter()
        .max_by_key(severity)
        .unwrap_or(Outcome::Skip)
}
