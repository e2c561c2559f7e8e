//! What dispatch is told, and what it answers.

use super::reason::Segment;
use super::yard::{PlaceView, PoolView, RunnerView, StrandKey};
use crate::id::{AttemptId, JobId, PoolId, RunnerId, StrandId};
use crate::time::Moment;
use std::time::Duration;

/// How something in the queue or the yard is now.
#[derive(Clone, PartialEq, Debug)]
pub enum Event {
    /// A job waits. `number` breaks ties between jobs that became ready at once.
    Waits {
        job: JobId,
        strand: StrandId,
        ready: Moment,
        number: i64,
        /// The runner on which its last attempt came to nothing; another is preferred.
        avoid: Option<RunnerId>,
    },
    /// A job does not wait any more, and not because it was assigned.
    Withdrawn { job: JobId },
    /// A strand exists, with its project's path in the tree.
    Strand {
        id: StrandId,
        key: StrandKey,
        project: String,
    },
    /// A runner is like this.
    Runner(Box<RunnerView>),
    /// A runner is not there any more.
    RunnerGone { id: RunnerId },
    /// A pool is like this.
    Pool(Box<PoolView>),
    /// A team or a project has this weight and limit.
    Place(PlaceView),
    /// There are so many seats of this name.
    Seats { name: String, count: u32 },
    /// A runner holds this kept workspace, or does not any more.
    Workspace {
        name: String,
        runner: RunnerId,
        there: bool,
    },
    /// A project used so much slot-time before, as it counts now (see [`SharePolicy`]).
    Used {
        project: String,
        slot_time: Duration,
    },
    /// An attempt has held a slot, and its strand's seats, since then.
    Holds {
        attempt: AttemptId,
        job: JobId,
        runner: RunnerId,
        strand: StrandId,
        since: Moment,
    },
    /// An attempt holds its slot no more.
    Released { attempt: AttemptId },
    /// A person took the seats of an attempt back; it keeps its slot.
    SeatsTakenBack { attempt: AttemptId },
    /// An assignment of a plan could not be kept; its job is not put back (an event that says how it is follows).
    Refused { attempt: AttemptId },
}

/// What to do next, decided at one moment.
#[must_use]
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Plan {
    /// Jobs and the runners they go to, in the order in which the jobs were taken.
    pub assignments: Vec<Assignment>,
    /// Strands whose reason is another than before.
    pub reasons: Vec<ReasonChange>,
}

/// One job goes to one runner.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Assignment {
    pub attempt: AttemptId,
    pub job: JobId,
    pub runner: RunnerId,
    pub pool: PoolId,
    pub strand: StrandId,
}

/// From now on the jobs of this strand wait for these reasons; none when no job of it waits any more.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ReasonChange {
    pub strand: StrandId,
    pub segments: Vec<Segment>,
}
