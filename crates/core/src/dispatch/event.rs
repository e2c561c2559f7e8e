//! The events and plans of dispatch, and what changes in the lines of waiting jobs.

use super::reason::{Reason, Segment};
use super::yard::{PlaceView, PoolView, RunnerView, StrandKey};
use crate::id::{AttemptId, JobId, PlaceId, PoolId, RunnerId, StrandId};
use crate::time::Moment;
use std::time::Duration;

/// The present state of something in the queue or the yard.
#[derive(Clone, PartialEq, Debug)]
pub enum Event {
    /// A job waits. `number` breaks ties between jobs that became ready at once.
    Waits {
        job: JobId,
        strand: StrandId,
        ready: Moment,
        number: i64,
        /// Since when it has waited: later than `ready` where it waits again.
        since: Moment,
        /// The runner on which its last attempt was lost; another is preferred.
        avoid: Option<RunnerId>,
    },
    /// A job no longer waits, and was not assigned.
    Withdrawn { job: JobId },
    /// A strand exists, with its project's path in the tree.
    Strand {
        id: StrandId,
        key: StrandKey,
        project: String,
    },
    /// A runner's present state.
    Runner(Box<RunnerView>),
    /// A runner is gone.
    RunnerGone { id: RunnerId },
    /// A pool's present state.
    Pool(Box<PoolView>),
    /// A team or a project has this weight and limit.
    Place(PlaceView),
    /// The count of a kind of seat.
    Seats { name: String, count: u32 },
    /// A runner holds a kept workspace, or no longer holds it.
    Workspace {
        name: String,
        runner: RunnerId,
        there: bool,
    },
    /// The slot-time that a project has used, decayed to now (see [`SharePolicy`]).
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
    /// An attempt no longer holds its slot.
    Released { attempt: AttemptId },
    /// A person took the seats of an attempt back; it keeps its slot.
    SeatsTakenBack { attempt: AttemptId },
    /// An assignment could not be committed; its job is not put back (an event with its present state follows).
    Refused { attempt: AttemptId },
}

/// The decisions of one moment.
#[must_use]
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Plan {
    /// Jobs and the runners they go to, in the order in which the jobs were taken.
    pub assignments: Vec<Assignment>,
    /// Strands with a changed reason.
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

/// Consecutive waiting jobs of a strand with one reason.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LinePart {
    pub reason: Reason,
    /// What is missing, as a name that groups strands: the pools, seats, or the place with the limit. Empty where nothing in particular
    /// is.
    pub cause: String,
    pub jobs: u32,
    /// Since when the job that waits longest has waited.
    pub oldest: Moment,
    /// The number of the first job.
    pub first: i64,
    /// Jobs of the strand before the first.
    pub from: u32,
}

/// Waiting jobs of a project with one reason and cause, as far as their lines were taken.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LineGroup {
    pub project: PlaceId,
    pub reason: Reason,
    pub cause: String,
    /// 0 where none waits any more.
    pub jobs: u64,
    /// Parts of strands' lines.
    pub strands: u64,
    /// Since when the job that waits longest has waited; the beginning of time where none waits.
    pub oldest: Moment,
}

/// A strand's waiting jobs as they are now; no parts when none waits.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LineChange {
    pub strand: StrandId,
    pub project: PlaceId,
    pub requirement: String,
    pub parts: Vec<LinePart>,
}
