//! A runner's life: `awaited`, `available`, `busy`, `draining`, `paused`, `offline`, `retired`.
//!
//! What a person wants of a runner (take work, pause, drain) outlives its connection: a paused runner that vanishes is
//! `offline`, and is `paused` again when it reconnects. So the event that it was seen carries the desired state along.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a runner is in its life.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunnerState {
    /// Its ticket is made; it has never connected.
    Awaited,
    /// Connected, with a free slot.
    Available,
    /// Connected, and every slot is taken.
    Busy,
    /// Finishes what it has and takes nothing new.
    Draining,
    /// Takes nothing new until resumed.
    Paused,
    /// Not heard of for too long.
    Offline,
    /// Gone permanently; its record stays.
    Retired,
}

words!(RunnerState {
    Awaited = "awaited",
    Available = "available",
    Busy = "busy",
    Draining = "draining",
    Paused = "paused",
    Offline = "offline",
    Retired = "retired",
});

/// What people want of a runner.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DesiredState {
    /// Take work.
    Work,
    /// Take nothing new.
    Pause,
    /// Finish and take nothing new.
    Drain,
}

words!(DesiredState { Work = "work", Pause = "pause", Drain = "drain" });

/// Returns what is asked of a runner once it has started a job, where that changes: what a single-use runner has begun is
/// the last that it takes.
pub fn desired_state_after_start(single_use: bool) -> Option<DesiredState> {
    single_use.then_some(DesiredState::Drain)
}

/// What can happen to a runner.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum RunnerEvent {
    /// It enrolled with its ticket.
    Enrol,
    /// It is connected, with a number of used slots.
    Seen {
        /// What people want of it.
        desired_state: DesiredState,
        /// Slots in use.
        used: u32,
        /// Slots it has.
        slots: u32,
    },
    /// It was not heard of for too long.
    Lose,
    /// A person, or its ticket's end, takes it out permanently.
    Retire,
}

impl RunnerState {
    /// The state after the event.
    pub fn after(self, event: RunnerEvent) -> Result<RunnerState, InvalidTransition> {
        use {RunnerEvent as E, RunnerState as S};
        match (self, event) {
            // Enrolled is not yet connected: it is offline until its first poll.
            (S::Awaited, E::Enrol) => Ok(S::Offline),
            (
                S::Available | S::Busy | S::Draining | S::Paused | S::Offline,
                E::Seen {
                    desired_state,
                    used,
                    slots,
                },
            ) => Ok(match desired_state {
                DesiredState::Pause => S::Paused,
                DesiredState::Drain => S::Draining,
                DesiredState::Work if used < slots => S::Available,
                DesiredState::Work => S::Busy,
            }),
            (S::Available | S::Busy | S::Draining | S::Paused | S::Offline, E::Lose) => {
                Ok(S::Offline)
            }
            (S::Retired, E::Retire) => Ok(S::Retired),
            (_, E::Retire) => Ok(S::Retired),
            (state, event) => {
                let event = match event {
                    E::Enrol => "enrol",
                    E::Seen { .. } => "seen",
                    E::Lose => "lose",
                    E::Retire => "retire",
                };
                Err(InvalidTransition {
                    noun: "runner",
                    state: state.to_string(),
                    event: event.to_owned(),
                })
            }
        }
    }

    /// Whether it is connected.
    pub fn is_connected(self) -> bool {
        matches!(
            self,
            Self::Available | Self::Busy | Self::Draining | Self::Paused
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(desired_state: DesiredState, used: u32) -> RunnerEvent {
        RunnerEvent::Seen {
            desired_state,
            used,
            slots: 2,
        }
    }

    #[test]
    fn a_runner_is_busy_only_when_every_slot_is_taken() {
        assert_eq!(
            RunnerState::Offline.after(seen(DesiredState::Work, 1)),
            Ok(RunnerState::Available)
        );
        assert_eq!(
            RunnerState::Available.after(seen(DesiredState::Work, 2)),
            Ok(RunnerState::Busy)
        );
    }

    #[test]
    fn a_paused_runner_that_comes_back_is_paused() {
        let away = RunnerState::Paused.after(RunnerEvent::Lose).unwrap();
        assert_eq!(away, RunnerState::Offline);
        assert_eq!(
            away.after(seen(DesiredState::Pause, 0)),
            Ok(RunnerState::Paused)
        );
    }

    #[test]
    fn a_retired_runner_is_not_seen_again_and_an_awaited_one_enrols_first() {
        assert!(
            RunnerState::Retired
                .after(seen(DesiredState::Work, 0))
                .is_err()
        );
        assert!(
            RunnerState::Awaited
                .after(seen(DesiredState::Work, 0))
                .is_err()
        );
        assert_eq!(
            RunnerState::Awaited.after(RunnerEvent::Enrol),
            Ok(RunnerState::Offline)
        );
    }
}
