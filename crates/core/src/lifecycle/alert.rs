//! An alert's life: from the first sign of something that somebody should be told of, until it is over.
//!
//! ```text
//!            long enough            absent                 absent for long enough
//!  brewing ---------------> raised -------> settling --------------------------> over
//!     |                        ^               |                                   ^
//!     |                        '---- holds ----'                                   |
//!     '------------------------------- absent --------------------------------------'
//! ```
//! What comes and goes within moments is neither raised nor ended each time.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How long what was raised has to be absent before it is over.
pub const CALM: Duration = Duration::from_secs(120);

/// Where an alert is in its life.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AlertState {
    /// It is so, but not for long enough that anybody is told.
    Brewing,
    /// People are told.
    Raised,
    /// People were told, and it is not so for the moment.
    Settling,
    /// It is not so any more.
    Over,
}

words!(AlertState {
    Brewing = "brewing",
    Raised = "raised",
    Settling = "settling",
    Over = "over",
});

/// What is found of it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AlertEvent {
    /// It is so, for so long, of which people are told after some time.
    Holds {
        lasted: Duration,
        patience: Duration,
    },
    /// It is not so, for so long.
    Absent { lasted: Duration },
}

impl AlertState {
    /// The state after the event.
    pub fn after(self, event: AlertEvent) -> Result<AlertState, InvalidTransition> {
        use {AlertEvent as E, AlertState as S};
        match (self, event) {
            (S::Brewing, E::Holds { lasted, patience }) if lasted < patience => Ok(S::Brewing),
            (S::Brewing | S::Raised | S::Settling, E::Holds { .. }) => Ok(S::Raised),
            (S::Brewing, E::Absent { .. }) => Ok(S::Over),
            (S::Raised, E::Absent { .. }) => Ok(S::Settling),
            (S::Settling, E::Absent { lasted }) if lasted < CALM => Ok(S::Settling),
            (S::Settling, E::Absent { .. }) => Ok(S::Over),
            (S::Over, event) => Err(InvalidTransition {
                noun: "alert",
                state: self.to_string(),
                event: format!("{event:?}"),
            }),
        }
    }

    /// Whether people are told of it now.
    pub fn is_told(self) -> bool {
        matches!(self, AlertState::Raised | AlertState::Settling)
    }
}
