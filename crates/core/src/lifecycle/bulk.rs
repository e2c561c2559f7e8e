//! The lifecycle of an action on many jobs.
//!
//! ```text
//!  running --Finish--> done
//!     |----Stop------> stopped
//!     '----Fail------> failed
//! ```

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The states of an action on many jobs.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BulkState {
    /// Jobs are still to be changed.
    Running,
    /// Every job was handled.
    Done,
    /// A person stopped it; what was changed stays changed.
    Stopped,
    /// It met an error that does not go away; what was changed stays changed.
    Failed,
}

words!(BulkState {
    Running = "running",
    Done = "done",
    Stopped = "stopped",
    Failed = "failed",
});

/// What happens to an action on many jobs.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum BulkEvent {
    Finish,
    Stop,
    Fail,
}

impl BulkState {
    /// Returns the state after the event.
    ///
    /// # Errors
    /// When the action is over.
    pub fn after(self, event: BulkEvent) -> Result<BulkState, InvalidTransition> {
        match (self, event) {
            (BulkState::Running, BulkEvent::Finish) => Ok(BulkState::Done),
            (BulkState::Running, BulkEvent::Stop) => Ok(BulkState::Stopped),
            (BulkState::Running, BulkEvent::Fail) => Ok(BulkState::Failed),
            (BulkState::Done | BulkState::Stopped | BulkState::Failed, event) => {
                Err(InvalidTransition {
                    noun: "bulk action",
                    state: self.to_string(),
                    event: format!("{event:?}"),
                })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_action_ends_once() {
        for event in [BulkEvent::Finish, BulkEvent::Stop, BulkEvent::Fail] {
            let end = BulkState::Running.after(event).unwrap();
            assert_ne!(end, BulkState::Running);
            for again in [BulkEvent::Finish, BulkEvent::Stop, BulkEvent::Fail] {
                assert!(end.after(again).is_err(), "{end} after {again:?}");
            }
        }
    }
}
