//! The queue, the yard, the machines and the leases behind one set of events and stages.
//!
//! The leading replica is a thin shell around [`Engine`], and [`simulate`](crate::simulate) runs the same stages with a
//! clock of its own:
//!
//! ```text
//!   changes of the record ──> apply ──> assign ──> one transaction: refused assignments are applied as events
//!                               ^         │
//!                               │       settle ──> machines to order and release, seats reserved, reasons
//!   suppliers' answers ─────────┤
//!   the passing of time ─────> expire ──> attempts and runners that are lost
//! ```
//!
//! It does no I/O and uses no randomness: the moment and fresh ids are arguments. Events state how things are, not how they
//! changed, so that a repeated event does no harm.

mod expiry;

use crate::capacity::{self, CapacityPlan, Keeper, ManagedPool};
use crate::dispatch::{
    self, Assignment, Inconsistency, LineChange, LineGroup, PoolView, Reason, ReasonChange,
    RunnerView, SeatReservations, Segment, State,
};
use crate::id::{AttemptId, MachineId, RunnerId, StrandId};
use crate::lifecycle::runner::RunnerState;
use crate::time::Moment;
use std::collections::BTreeSet;

pub use expiry::{Expirations, GAP, Lease, LostAttempt, LostRunner};

/// A fact that the engine decides from.
#[derive(Clone, PartialEq, Debug)]
pub enum Event {
    /// Of the queue or the yard.
    Dispatch(dispatch::Event),
    /// Of suppliers or machines.
    Capacity(capacity::Event),
    /// A pool; with a policy if it orders machines.
    Pool {
        view: Box<PoolView>,
        policy: Option<Box<ManagedPool>>,
    },
    /// Jobs wait in a strand that fail rather than wait if nothing can match.
    FailUnmatched { strand: StrandId },
}

impl From<dispatch::Event> for Event {
    fn from(event: dispatch::Event) -> Self {
        Event::Dispatch(event)
    }
}

impl From<capacity::Event> for Event {
    fn from(event: capacity::Event) -> Self {
        Event::Capacity(event)
    }
}

/// A source of fresh ids.
pub trait Ids {
    /// Returns a fresh attempt id.
    fn attempt(&mut self) -> AttemptId;

    /// Returns fresh machine and runner ids.
    fn machine(&mut self) -> (MachineId, RunnerId);
}

/// The effects that follow once the assignments of a moment are made.
#[must_use]
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Settlement {
    /// Machines to order and to release, with the decisions.
    pub decided: CapacityPlan,
    /// Machines whose runner has connected, to be recorded.
    pub joined: Vec<MachineId>,
    /// Changed seat reservations.
    pub reserved: Option<SeatReservations>,
    /// Strands with a changed reason.
    pub reasons: Vec<ReasonChange>,
    /// Strands whose jobs nothing in the yard can run, among the examined ones.
    pub unmatched: Vec<StrandId>,
}

/// The queue, the yard, the machines and the leases. See the module's head.
#[derive(Default)]
pub struct Engine {
    dispatch: State,
    capacity: Keeper,
    /// Leases and connections count from here at the earliest.
    leases_since: Moment,
    /// When leases were last examined.
    examined: Option<Moment>,
    /// Retired runners that may still hold jobs.
    retired: BTreeSet<RunnerId>,
    fail_unmatched: BTreeSet<StrandId>,
    /// The seat reservations that were last reported.
    reserved: Option<SeatReservations>,
}

impl Engine {
    /// Returns an engine that begins to lead now, from the recorded queue, yard and machines.
    pub fn new(dispatch: State, capacity: Keeper, now: Moment) -> Self {
        let mut engine = Engine {
            dispatch,
            capacity,
            leases_since: now,
            ..Engine::default()
        };
        let retired = engine.dispatch.runner_views();
        engine.retired = retired
            .filter(|view| view.state == RunnerState::Retired)
            .map(|view| view.id)
            .collect();
        engine
    }

    /// Returns the queue and the yard.
    pub fn dispatch(&self) -> &State {
        &self.dispatch
    }

    /// Returns the machines.
    pub fn capacity(&self) -> &Keeper {
        &self.capacity
    }

    /// Applies an event.
    pub fn apply(&mut self, event: impl Into<Event>, now: Moment) {
        match event.into() {
            Event::Dispatch(event) => {
                if let dispatch::Event::Runner(view) = &event {
                    self.note_runner(view, now);
                }
                self.dispatch.apply(event, now);
            }
            Event::Capacity(event) => self.capacity.apply(event, now),
            Event::Pool { view, policy } => {
                let policy = match policy {
                    Some(policy) => capacity::Event::Pool(policy),
                    None => capacity::Event::PoolGone(view.id),
                };
                self.capacity.apply(policy, now);
                self.dispatch.apply(dispatch::Event::Pool(view), now);
            }
            Event::FailUnmatched { strand } => {
                self.fail_unmatched.insert(strand);
            }
        }
    }

    /// Restores the last reported reasons of a strand, so that they are not reported again.
    pub fn restore_reasons(&mut self, strand: StrandId, segments: Vec<Segment>) {
        self.dispatch.restore_reasons(strand, segments);
    }

    fn note_runner(&mut self, view: &RunnerView, now: Moment) {
        if view.state != RunnerState::Retired {
            return;
        }
        self.retired.insert(view.id);
        if let Some(machine) = self.capacity.machine_of(view.id) {
            self.capacity.apply(capacity::Event::Left(machine), now);
        }
    }

    /// Returns the inconsistency that was found, if any: the engine must then be discarded and rebuilt from the record.
    pub fn inconsistency(&self) -> Option<Inconsistency> {
        self.dispatch.inconsistency()
    }

    /// Assigns as many waiting jobs as there are free slots for, in order. They count as assigned at once; an assignment that could
    /// not be committed is returned as [`dispatch::Event::Refused`].
    pub fn assign(&mut self, now: Moment, ids: &mut dyn Ids) -> Vec<Assignment> {
        self.forget_retired(now);
        let plan = self.dispatch.start(now, &mut || ids.attempt());
        plan.assignments
    }

    /// Drops retired runners without jobs.
    fn forget_retired(&mut self, now: Moment) {
        let dispatch = &self.dispatch;
        let is_over = |id: &RunnerId| dispatch.load_of(*id).is_none_or(|load| load.used == 0);
        let over: Vec<RunnerId> = self.retired.iter().copied().filter(is_over).collect();
        for id in over {
            self.retired.remove(&id);
            let gone = dispatch::Event::RunnerGone { id };
            self.dispatch.apply(gone, now);
        }
    }

    /// Decides about machines, and determines the reason of each job that still waits. To be called once the assignments of this
    /// moment are committed.
    pub fn settle(&mut self, now: Moment, ids: &mut dyn Ids) -> Settlement {
        let decided = self
            .capacity
            .decide(&mut self.dispatch, now, &mut || ids.machine());
        let reasons = self.dispatch.explain(now);
        let reserved = self.dispatch.kept_back();
        let reserved = (self.reserved.as_ref() != Some(reserved)).then(|| reserved.clone());
        if reserved.is_some() {
            self.reserved.clone_from(&reserved);
        }
        let mut looked_at = std::mem::take(&mut self.fail_unmatched);
        looked_at.extend(reasons.iter().map(|change| change.strand));
        let unmatched = looked_at
            .into_iter()
            .filter(|strand| {
                let first = self.dispatch.reasons_of(*strand).first();
                first.is_some_and(|first| first.reason == Reason::NoMatch)
            })
            .collect();
        Settlement {
            decided,
            joined: self.capacity.connected_early().iter().copied().collect(),
            reserved,
            reasons,
            unmatched,
        }
    }

    /// Takes the strands whose lines of waiting jobs are others than when they were last taken; `most` at once.
    pub fn take_changed_lines(&mut self, most: usize) -> Vec<LineChange> {
        self.dispatch.take_changed_lines(most)
    }

    /// Returns the groups of the lines as they were last taken, and takes what has changed in them.
    pub fn take_all_groups(&mut self) -> Vec<LineGroup> {
        self.dispatch.take_all_groups()
    }

    /// Takes the groups that are others than when they were last taken; one without jobs is gone.
    pub fn take_changed_groups(&mut self) -> Vec<LineGroup> {
        self.dispatch.take_changed_groups()
    }

    /// When something follows from the passing of time alone, as far as it can be told beforehand.
    pub fn next_due(&self, now: Moment) -> Option<Moment> {
        let capacity = self.capacity.next_due(now);
        capacity.into_iter().chain(self.dispatch.next_climb()).min()
    }
}
