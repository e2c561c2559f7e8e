//! Runners, pools and strands as dispatch sees them.

use crate::fact::Subject;
use crate::id::{PlaceId, PoolId, RunnerId};
use crate::lifecycle::runner::{DesiredState, RunnerState};
use crate::lifecycle::words;
use crate::requirement::Requirement;
use crate::time::Moment;
use crate::trust::Trust;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
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

impl Band {
    /// The band to which a job of this one has climbed after waiting so long, one band in each `climb_after`.
    pub fn climbed(self, waited: Duration, climb_after: Duration) -> Band {
        let bands = waited.as_micros() / climb_after.as_micros().max(1);
        match (self, bands) {
            (band, 0) => band,
            (Band::Background, 1) => Band::Normal,
            _ => Band::Urgent,
        }
    }

    /// How many bands there are above it.
    pub fn above(self) -> u32 {
        match self {
            Band::Urgent => 0,
            Band::Normal => 1,
            Band::Background => 2,
        }
    }
}

/// How many of which seats a job takes while it runs.
pub type SeatNeeds = BTreeMap<String, u32>;

/// What makes waiting jobs alike to the dispatcher. Every field takes part in the strand's identity.
#[derive(Clone, PartialEq, Eq, Hash, Debug, Default, Serialize, Deserialize)]
pub struct StrandKey {
    /// The requirement in its normal form.
    pub requirement: String,
    /// Whose job it is; decides the reach.
    pub project: PlaceId,
    /// How urgent.
    #[serde(default)]
    pub band: Band,
    /// The seats that it takes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub seats: SeatNeeds,
    /// The kept workspace that it would like to find on its runner.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub workspace: Option<String>,
    /// Whether it is trusted; untrusted jobs use only pools that take them.
    #[serde(default, skip_serializing_if = "Trust::is_trusted")]
    pub trust: Trust,
    /// The pools in which it was approved although its project is not.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub approved_in: BTreeSet<PoolId>,
}

/// Whether a runner would take a job now.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Availability {
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
    pub desired_state: DesiredState,
    /// Its labels and facts, its pool's included.
    pub subject: Subject,
}

impl RunnerView {
    /// Whether it finishes what it has and accepts no new ones, permanently.
    pub fn drains(&self) -> bool {
        self.desired_state == DesiredState::Drain
    }

    /// Whether it would take a job now, slots aside.
    pub fn willingness(&self) -> Availability {
        match (self.state, self.desired_state) {
            (RunnerState::Available | RunnerState::Busy, DesiredState::Work) => Availability::Takes,
            (RunnerState::Awaited | RunnerState::Offline | RunnerState::Retired, _) => {
                Availability::Offline
            }
            _ => Availability::Paused,
        }
    }
}

/// How a runner stands, as those who keep machines see it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RunnerLoad {
    /// Whether it takes work, its pool minded.
    pub willingness: Availability,
    /// Slots in use.
    pub used: u32,
    /// When it last became idle, or able to take work.
    pub idle_since: Moment,
    /// Whether it finishes what it has and accepts no new ones, permanently.
    pub drains: bool,
}

/// Who may use a pool, by paths of teams and projects, and with which jobs.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Reach {
    /// Narrowed to these and what is below them; empty means everything at or below the owner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub narrow_to: Vec<String>,
    /// Widened by these and what is below them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub widen_to: Vec<String>,
    /// Whether it takes untrusted jobs as well.
    #[serde(default)]
    pub takes_untrusted: bool,
    /// Whether a project's first use has to be approved.
    #[serde(default)]
    pub asks_approval: bool,
    /// The paths of the projects whose use was approved.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub approved: BTreeSet<String>,
}

/// How a project may use a pool, or why not.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum PoolAccess {
    /// It is below the pool's owner.
    OfOwner,
    /// It is below the pool's owner, and the reach is narrowed to it or a place above it.
    Narrowed,
    /// The reach is widened to it or a place above it.
    Widened,
    /// Its use has to be approved first.
    NeedsApproval,
    /// It is out of the pool's reach.
    OutOfReach,
}

words!(PoolAccess {
    OfOwner = "of-owner",
    Narrowed = "narrowed",
    Widened = "widened",
    NeedsApproval = "needs-approval",
    OutOfReach = "out-of-reach",
});

impl PoolAccess {
    /// Whether trusted jobs of the project may use the pool.
    pub fn is_granted(self) -> bool {
        matches!(
            self,
            PoolAccess::OfOwner | PoolAccess::Narrowed | PoolAccess::Widened
        )
    }
}

/// Where a job comes from, as far as it decides which pools it may use.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Origin<'a> {
    /// The path of its project.
    pub project: &'a str,
    pub trust: Trust,
    /// The pools in which this job alone was approved.
    pub approved_in: &'a BTreeSet<PoolId>,
}

/// No pools.
pub static NO_POOLS: BTreeSet<PoolId> = BTreeSet::new();

impl Origin<'_> {
    /// Trusted jobs of the project at this path.
    pub fn trusted(project: &str) -> Origin<'_> {
        Origin {
            project,
            trust: Trust::Trusted,
            approved_in: &NO_POOLS,
        }
    }
}

/// A price: millionths of the installation's currency for an hour of one machine.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(transparent)]
pub struct Price(pub u64);

/// A pool, as dispatch sees it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct PoolView {
    pub id: PoolId,
    pub name: String,
    /// Whether it accepts jobs without a requirement.
    pub open: bool,
    /// The path of its owner in the tree; the root's is empty.
    pub owner: String,
    pub reach: Reach,
    /// Whether its runners take nothing new for now.
    pub paused: bool,
    pub price: Price,
    /// What its machines are like, where it can make some.
    pub makes: Option<Subject>,
    /// Slots of machines that are being made.
    pub coming: u32,
    /// Why no further machine is available, in words, where that is so: a budget, a quota, a failing supplier.
    pub short: Option<String>,
    /// Its ceiling, where it has as many machines as that allows.
    pub full: Option<u32>,
}

/// Room for slots in a pool that makes machines.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct PoolRoom {
    /// Slots of machines that are being made.
    pub coming: u32,
    /// Slots of further machines that may be made.
    pub more: u32,
    /// Slots of each of its machines.
    pub slots: u32,
}

impl PoolView {
    /// Whether jobs from there may use it.
    pub fn reaches(&self, origin: Origin<'_>) -> bool {
        self.is_within_reach(origin) && self.has_approval(origin)
    }

    /// How trusted jobs of a project may use it, with the place by which they do; of several places the nearest.
    pub fn access(&self, project: &str) -> (PoolAccess, Option<&str>) {
        let origin = Origin::trusted(project);
        if self.lacks_approval(origin) {
            return (PoolAccess::NeedsApproval, None);
        }
        if !self.reaches(origin) {
            return (PoolAccess::OutOfReach, None);
        }
        let Reach {
            narrow_to,
            widen_to,
            ..
        } = &self.reach;
        if below(&self.owner, project) {
            if narrow_to.is_empty() {
                return (PoolAccess::OfOwner, Some(&self.owner));
            }
            if let Some(path) = nearest(narrow_to, project) {
                return (PoolAccess::Narrowed, Some(path));
            }
        }
        (PoolAccess::Widened, nearest(widen_to, project))
    }

    /// Whether jobs from there could use it if their project's use were approved, which it is not.
    pub fn lacks_approval(&self, origin: Origin<'_>) -> bool {
        self.is_within_reach(origin) && !self.has_approval(origin)
    }

    fn has_approval(&self, origin: Origin<'_>) -> bool {
        !self.reach.asks_approval
            || self.reach.approved.contains(origin.project)
            || origin.approved_in.contains(&self.id)
    }

    /// Whether jobs from there are within its reach, approved or not.
    fn is_within_reach(&self, Origin { project, trust, .. }: Origin<'_>) -> bool {
        let among = |paths: &[String]| paths.iter().any(|path| below(path, project));
        let Reach {
            narrow_to,
            widen_to,
            takes_untrusted,
            ..
        } = &self.reach;
        if !trust.is_trusted() && !takes_untrusted {
            return false;
        }
        (below(&self.owner, project) && (narrow_to.is_empty() || among(narrow_to)))
            || among(widen_to)
    }

    /// Whether a runner of this pool may take a job with this requirement, whatever its reach.
    pub fn admits(&self, requirement: &Requirement, subject: &Subject) -> bool {
        if requirement.is_any() {
            self.open
        } else {
            requirement.satisfied_by(subject)
        }
    }

    /// Whether a runner of this pool takes work.
    pub fn willingness(&self, runner: &RunnerView) -> Availability {
        match runner.willingness() {
            Availability::Takes if self.paused => Availability::Paused,
            other => other,
        }
    }

    /// Whether nothing differs that separates runners into classes or projects by reach.
    pub(super) fn same_for_classes(&self, other: &PoolView) -> bool {
        self.open == other.open && self.owner == other.owner && self.reach == other.reach
    }
}

/// A team or a project, as dispatch sees it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PlaceView {
    /// Its path in the tree; the root's is empty.
    pub path: String,
    /// Its share against its siblings'.
    pub weight: u32,
    /// The most slots that it may hold at once, with everything below it.
    pub limit: Option<u32>,
}

/// The nearest of these places at which a project is, or below which.
fn nearest<'a>(paths: &'a [String], project: &str) -> Option<&'a str> {
    let above = paths.iter().filter(|path| below(path, project));
    above.max_by_key(|path| path.len()).map(String::as_str)
}

/// Whether `path` is `ancestor` or lies below it in the tree.
pub fn below(ancestor: &str, path: &str) -> bool {
    ancestor.is_empty()
        || path
            .strip_prefix(ancestor)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn access_names_the_place_by_which_a_project_may_use_a_pool() {
        let reach = |narrow_to: &[&str], widen_to: &[&str]| Reach {
            narrow_to: narrow_to.iter().map(|path| (*path).to_owned()).collect(),
            widen_to: widen_to.iter().map(|path| (*path).to_owned()).collect(),
            ..Reach::default()
        };
        let of = |owner: &str, reach: Reach| PoolView {
            owner: owner.to_owned(),
            reach,
            ..PoolView::default()
        };
        use PoolAccess::{Narrowed, NeedsApproval, OfOwner, OutOfReach, Widened};
        let asking = Reach {
            asks_approval: true,
            ..Reach::default()
        };
        for (pool, access, by) in [
            (of("", reach(&[], &[])), OfOwner, Some("")),
            (of("firmware", reach(&[], &[])), OfOwner, Some("firmware")),
            (
                of("", reach(&["firmware", "firmware/buoy"], &[])),
                Narrowed,
                Some("firmware/buoy"),
            ),
            (
                of("", reach(&["shore"], &["firmware"])),
                Widened,
                Some("firmware"),
            ),
            (of("shore", reach(&[], &[])), OutOfReach, None),
            (of("", asking), NeedsApproval, None),
        ] {
            assert_eq!(pool.access("firmware/buoy"), (access, by), "{pool:?}");
            let is_reached = pool.reaches(Origin::trusted("firmware/buoy"));
            assert_eq!(access.is_granted(), is_reached, "{pool:?}");
        }
    }
}
