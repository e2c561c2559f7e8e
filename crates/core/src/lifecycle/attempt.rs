//! An attempt's life: one try of a job on one runner.
//!
//! ```text
//!  assigned --Acknowledge--> acknowledged --Start--> executing --Exit--> finalizing --Finish--> done
//!      \_________________________Start_________________^
//! ```
//! `Lose` ends an attempt from any state: it was not acknowledged, its lease ended, its runner came back without it.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How long an attempt's lease lasts after the poll that renewed it.
pub const LEASE: Duration = Duration::from_secs(30);

/// Where an attempt is in its life.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AttemptState {
    /// Given to a runner that has not said yet that it knows.
    Assigned,
    /// The runner knows and prepares.
    Acknowledged,
    /// The command runs.
    Executing,
    /// The command has ended; the log is still on its way.
    Finalizing,
    /// Over.
    Done,
}

words!(AttemptState {
    Assigned = "assigned",
    Acknowledged = "acknowledged",
    Executing = "executing",
    Finalizing = "finalizing",
    Done = "done",
});

/// What can happen to an attempt.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AttemptEvent {
    /// The runner has it.
    Acknowledge,
    /// The command was started.
    Start,
    /// The command has ended.
    Exit,
    /// The runner reported the end.
    Finish,
    /// It was lost.
    Lose,
}

impl AttemptState {
    /// The state after the event. Repeats of what is already so are not errors: an answer may have been lost.
    pub fn after(self, event: AttemptEvent) -> Result<AttemptState, InvalidTransition> {
        use {AttemptEvent as E, AttemptState as S};
        match (self, event) {
            (S::Assigned, E::Acknowledge) => Ok(S::Acknowledged),
            (S::Assigned | S::Acknowledged, E::Start) => Ok(S::Executing),
            (S::Executing, E::Exit) => Ok(S::Finalizing),
            (S::Acknowledged | S::Executing | S::Finalizing, E::Acknowledge) => Ok(self),
            (S::Executing | S::Finalizing, E::Start) => Ok(self),
            (S::Finalizing, E::Exit) => Ok(self),
            (S::Assigned | S::Acknowledged | S::Executing | S::Finalizing, E::Finish | E::Lose) => {
                Ok(S::Done)
            }
            (state, event) => Err(InvalidTransition {
                noun: "attempt",
                state: state.to_string(),
                event: format!("{event:?}").to_lowercase(),
            }),
        }
    }
}

impl AttemptState {
    /// The states that the event turns into `target`; what a guarded write to the database compares with.
    pub fn before(event: AttemptEvent, target: AttemptState) -> Vec<AttemptState> {
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

    #[test]
    fn a_repeated_report_changes_nothing() {
        assert_eq!(
            AttemptState::Executing.after(AttemptEvent::Start),
            Ok(AttemptState::Executing)
        );
        assert_eq!(
            AttemptState::Executing.after(AttemptEvent::Acknowledge),
            Ok(AttemptState::Executing)
        );
    }

    #[test]
    fn an_ended_attempt_accepts_no_report() {
        for event in [
            AttemptEvent::Start,
            AttemptEvent::Exit,
            AttemptEvent::Finish,
            AttemptEvent::Lose,
        ] {
            assert!(AttemptState::Done.after(event).is_err(), "{event:?}");
        }
    }

    #[test]
    fn a_command_cannot_end_before_it_was_started() {
        assert!(
            AttemptState::Acknowledged
                .after(AttemptEvent::Exit)
                .is_err()
        );
    }
}
