//! A job's life: `held`, `pending`, `executing`, `finalizing`, `done`.
//!
//! ```text
//!  held --Release--> pending --Start--> executing --Exit--> finalizing --Finish--> done
//!                       ^                   |                   |
//!                       +-------Retry-------+-------------------+
//! ```
//! Every state but `done` can also be finished directly: a cancellation, a refusal, a time limit.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a job is in its life.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum JobState {
    /// Waits for a person's release, or for trust.
    Held,
    /// Ready, and waits for a runner (or has one that has not started it yet).
    Pending,
    /// Its command runs.
    Executing,
    /// Its command has ended; log and results are still on their way.
    Finalizing,
    /// It has a result.
    Done,
}

words!(JobState { Held = "held", Pending = "pending", Executing = "executing", Finalizing = "finalizing", Done = "done" });

/// How a job, or an attempt, ended.
#[derive(
    Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The command ended with exit code 0.
    Success,
    /// The command ended with another exit code or by a signal.
    Failure,
    /// Something other than the command failed: the runner was lost, the command does not exist.
    Error,
    /// It ran longer than its time limit.
    Timeout,
    /// A person ended it.
    Cancellation,
    /// It did not need to run.
    Skip,
}

words!(Outcome {
    Success = "success",
    Failure = "failure",
    Error = "error",
    Timeout = "timeout",
    Cancellation = "cancellation",
    Skip = "skip",
});

/// What can happen to a job.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum JobEvent {
    /// A person lets a held job go on.
    Release,
    /// Its command was started on a runner.
    Start,
    /// Its command has ended.
    Exit,
    /// Its attempt was lost; it waits again, in its old place.
    Retry,
    /// It has its result.
    Finish,
}

impl JobState {
    /// The state after the event.
    pub fn after(self, event: JobEvent) -> Result<JobState, InvalidTransition> {
        use {JobEvent as E, JobState as S};
        match (self, event) {
            (S::Held, E::Release) => Ok(S::Pending),
            (S::Pending, E::Start) => Ok(S::Executing),
            (S::Executing, E::Exit) => Ok(S::Finalizing),
            (S::Pending | S::Executing | S::Finalizing, E::Retry) => Ok(S::Pending),
            (S::Held | S::Pending | S::Executing | S::Finalizing, E::Finish) => Ok(S::Done),
            (state, event) => Err(InvalidTransition {
                noun: "job",
                state: state.to_string(),
                event: format!("{event:?}").to_lowercase(),
            }),
        }
    }
}

impl JobState {
    /// The states that the event turns into `target`; what a guarded write to the database compares with.
    pub fn before(event: JobEvent, target: JobState) -> Vec<JobState> {
        Self::ALL
            .iter()
            .copied()
            .filter(|state| state.after(event) == Ok(target))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const EVENTS: [JobEvent; 5] = [
        JobEvent::Release,
        JobEvent::Start,
        JobEvent::Exit,
        JobEvent::Retry,
        JobEvent::Finish,
    ];

    #[test]
    fn nothing_happens_to_a_job_that_is_done() {
        for event in EVENTS {
            let refused = JobState::Done.after(event).unwrap_err();
            assert!(refused.to_string().contains("done"), "{refused}");
        }
    }

    #[test]
    fn every_job_that_is_not_done_can_be_finished() {
        for state in JobState::ALL
            .iter()
            .filter(|state| **state != JobState::Done)
        {
            assert_eq!(state.after(JobEvent::Finish), Ok(JobState::Done));
        }
    }

    #[test]
    fn words_are_read_back() {
        for state in JobState::ALL {
            assert_eq!(state.word().parse(), Ok(*state));
            assert_eq!(serde_json::to_value(state).unwrap(), state.word());
        }
        assert!(
            "exploded"
                .parse::<Outcome>()
                .unwrap_err()
                .contains("success, failure")
        );
    }
}
