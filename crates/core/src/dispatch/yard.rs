//! Runners, pools and strands as dispatch sees them.

use crate::fact::Subject;
use crate::id::{PlaceId, PoolId, RunnerId};
use crate::lifecycle::runner::{RunnerState, Wish};
use crate::lifecycle::words;
use crate::requirement::Requirement;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How urgent a job is.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Band {
    /// Before everything else.
    Urgent,
    /// The usual.
    #[default]
    Normal,
    /// When nothing else waits.
    Background,
}

words!(Band { Urgent = "urgent", Normal = "normal", Background = "background" });

/// What makes waiting jobs alike to the dispatcher. Every field takes part in the strand's identity.
#[derive(Clone, PartialEq, Eq, Hash, Debug, Serialize, Deserialize)]
pub struct StrandKey {
    /// The requirement in its normal form.
    pub requirement: String,
    /// Whose job it is; decides the reach.
    pub project: PlaceId,
    /// How urgent.
    #[serde(default)]
    pub band: Band,
}

/// Whether a runner would take a job now.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Willingness {
    /// Connected and takes work.
    Takes,
    /// Connected, but paused or draining.
    Paused,
    /// Not connected.
    Offline,
}

/// A runner, as dispatch sees it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RunnerView {
    pub id: RunnerId,
    pub name: String,
    pub pool: PoolId,
    pub slots: u32,
    pub state: RunnerState,
    pub wish: Wish,
    /// Its labels and facts, its pool's included.
    pub subject: Subject,
}

impl RunnerView {
    /// Whether it would take a job now, slots aside.
    pub fn willingness(&self) -> Willingness {
        match (self.state, self.wish) {
            (RunnerState::Available | RunnerState::Busy, Wish::Work) => Willingness::Takes,
            (RunnerState::Awaited | RunnerState::Offline | RunnerState::Retired, _) => {
                Willingness::Offline
            }
            _ => Willingness::Paused,
        }
    }
}

/// A pool, as dispatch sees it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PoolView {
    pub id: PoolId,
    pub name: String,
    /// Whether it takes jobs that ask for nothing.
    pub open: bool,
    /// The path of its owner in the tree; the root's is empty.
    pub owner: String,
}

impl PoolView {
    /// Whether a project at this path may use it: everything at or below its owner may.
    pub fn reaches(&self, project: &str) -> bool {
        below(&self.owner, project)
    }

    /// Whether a runner of this pool may take a job with this requirement, whatever its reach.
    pub fn admits(&self, requirement: &Requirement, subject: &Subject) -> bool {
        if requirement.is_any() {
            self.open
        } else {
            requirement.satisfied_by(subject)
        }
    }
}

/// Whether `path` is `ancestor` or lies below it in the tree.
pub fn below(ancestor: &str, path: &str) -> bool {
    ancestor.is_empty()
        || path
            .strip_prefix(ancestor)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
