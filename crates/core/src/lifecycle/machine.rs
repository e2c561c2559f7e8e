//! A machine's life: `ordered`, `booting`, `joined`, `releasing`, `gone`, `failed`.
//!
//! `gone` and `failed` are its ends, in which nothing of it is left at the supplier. What fails after the supplier has
//! begun to make it is released first.

use super::{InvalidTransition, words};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a machine is in its life.
#[derive(
    Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum MachineState {
    /// Written down, and the supplier is being asked.
    Ordered,
    /// The supplier makes it; its runner has not connected yet.
    Booting,
    /// Its runner has connected.
    Joined,
    /// The supplier is being told to remove it.
    Releasing,
    /// It is not there any more.
    Gone,
    /// It never came to be what it was ordered for, and is not there.
    Failed,
}

words!(MachineState {
    Ordered = "ordered",
    Booting = "booting",
    Joined = "joined",
    Releasing = "releasing",
    Gone = "gone",
    Failed = "failed",
});

/// What can happen to a machine.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum MachineEvent {
    /// The supplier has taken the order.
    Accept,
    /// The supplier will not make it, and there is nothing of it.
    Refuse,
    /// Its runner has connected.
    Join,
    /// It is to be removed.
    Release,
    /// The supplier no longer has it, whether or not its removal was requested.
    Vanish {
        /// Whether it had never done what it was ordered for.
        failed: bool,
    },
}

impl MachineState {
    /// The state after the event.
    pub fn after(self, event: MachineEvent) -> Result<MachineState, InvalidTransition> {
        use {MachineEvent as E, MachineState as S};
        match (self, event) {
            (S::Ordered, E::Accept) => Ok(S::Booting),
            (S::Ordered, E::Refuse) => Ok(S::Failed),
            // A runner may connect before the supplier's answer to the order is here.
            (S::Ordered | S::Booting, E::Join) => Ok(S::Joined),
            (S::Ordered | S::Booting | S::Joined | S::Releasing, E::Release) => Ok(S::Releasing),
            (S::Ordered | S::Booting | S::Joined | S::Releasing, E::Vanish { failed: false }) => {
                Ok(S::Gone)
            }
            (S::Ordered | S::Booting | S::Joined | S::Releasing, E::Vanish { failed: true }) => {
                Ok(S::Failed)
            }
            (state, event) => Err(InvalidTransition {
                noun: "machine",
                state: state.to_string(),
                event: match event {
                    E::Accept => "accept",
                    E::Refuse => "refuse",
                    E::Join => "join",
                    E::Release => "release",
                    E::Vanish { .. } => "vanish",
                }
                .to_owned(),
            }),
        }
    }

    /// Whether something of it may be there at the supplier.
    pub fn exists(self) -> bool {
        !matches!(self, Self::Gone | Self::Failed)
    }

    /// Whether it is on its way.
    pub fn is_coming(self) -> bool {
        matches!(self, Self::Ordered | Self::Booting)
    }

    /// The states from which the event leads somewhere.
    pub fn that_take(event: MachineEvent) -> Vec<MachineState> {
        let all = Self::ALL.iter().copied();
        all.filter(|state| state.after(event).is_ok()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_started_machine_is_released_before_it_is_gone() {
        use {MachineEvent as E, MachineState as S};
        let path = [E::Accept, E::Join, E::Release, E::Vanish { failed: false }];
        let mut state = S::Ordered;
        let mut seen = vec![state];
        for event in path {
            state = state.after(event).unwrap();
            seen.push(state);
        }
        assert_eq!(
            seen,
            [S::Ordered, S::Booting, S::Joined, S::Releasing, S::Gone]
        );
        assert!(S::Booting.after(E::Refuse).is_err());
    }

    #[test]
    fn an_end_is_an_end() {
        for end in [MachineState::Gone, MachineState::Failed] {
            for event in [
                MachineEvent::Accept,
                MachineEvent::Refuse,
                MachineEvent::Join,
                MachineEvent::Release,
                MachineEvent::Vanish { failed: true },
            ] {
                assert!(end.after(event).is_err(), "{end} {event:?}");
            }
        }
    }
}
