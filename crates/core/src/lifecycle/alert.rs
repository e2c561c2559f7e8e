//! The lifecycle of an alert.
//!
//! ```text
//!            long enough            absent                 absent for long enough
//!  pending ---------------> raised -------> clearing --------------------------> ended
//!     |                        ^               |                                   ^
//!     |                        '---- holds ----'                                   |
//!     '------------------------------- absent --------------------------------------'
//! ```
//! A flapping condition neither raises nor ends an alert each time.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How long the condition of a raised alert must be false before the alert ends.
pub const CALM: Duration = Duration::from_secs(120);

/// The states of an alert.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AlertState {
    /// The condition holds, but not for long enough.
    Pending,
    /// The alert is raised.
    Raised,
    /// The alert is raised, but its condition is false at the moment.
    Clearing,
    /// The alert has ended.
    Ended,
}

words!(AlertState {
    Pending = "pending",
    Raised = "raised",
    Clearing = "clearing",
    Ended = "ended",
});

/// The result of evaluating its condition.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AlertEvent {
    /// The condition has held for `lasted`; the alert is raised after `patience`.
    Holds {
        lasted: Duration,
        patience: Duration,
    },
    /// The condition has been false for `lasted`.
    Absent { lasted: Duration },
}

impl AlertState {
    /// Returns the state after the event.
    pub fn after(self, event: AlertEvent) -> Result<AlertState, InvalidTransition> {
        use {AlertEvent as E, AlertState as S};
        match (self, event) {
            (S::Pending, E::Holds { lasted, patience }) if lasted < patience => Ok(S::Pending),
            (S::Pending | S::Raised | S::Clearing, E::Holds { .. }) => Ok(S::Raised),
            (S::Pending, E::Absent { .. }) => Ok(S::Ended),
            (S::Raised, E::Absent { .. }) => Ok(S::Clearing),
            (S::Clearing, E::Absent { lasted }) if lasted < CALM => Ok(S::Clearing),
            (S::Clearing, E::Absent { .. }) => Ok(S::Ended),
            (S::Ended, event) => Err(InvalidTransition {
                noun: "alert",
                state: self.to_string(),
                event: format!("{event:?}"),
            }),
        }
    }

    /// Whether it is shown and sent now.
    pub fn is_told(self) -> bool {
        matches!(self, AlertState::Raised | AlertState::Clearing)
    }
}
