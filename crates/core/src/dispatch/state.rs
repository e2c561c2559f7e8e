//! The queue and the yard in memory, and the plan made from them.

use super::event::LinePart;
use super::inconsistency::{Entity, Inconsistency, Problem};
use super::reason::{Reason, SeatReservations, Segment};
use super::runner_index::RunnerIndex;
use super::share::{SharePolicy, UsageScale};
use super::tree::{LineOrder, StrandHead, Tree};
use super::yard::StrandKey;
use crate::id::{AttemptId, JobId, PlaceId, PoolId, RunnerId, StrandId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use slab::Slab;
use std::collections::{BTreeMap, BTreeSet};

/// What must be there, or else what is being done ends, and the state is inconsistent.
macro_rules! present {
    ($state:ident, $found:expr, $problem:expr) => {
        match $found {
            Some(found) => found,
            None => {
                let subject = $state.subject;
                let problem = $problem;
                $state
                    .inconsistency
                    .get_or_insert(Inconsistency { subject, problem });
                return Default::default();
            }
        }
    };
}
pub(super) use present;

pub(super) struct Strand {
    pub id: StrandId,
    pub key: StrandKey,
    pub path: String,
    pub project: usize,
    /// None when its requirement cannot be read, which it could when it was submitted.
    pub kind: Option<usize>,
    /// First in, first out, by when each became ready.
    pub queue: BTreeMap<LineOrder, JobId>,
    /// Its first job as it stands in its team's line.
    pub head: Option<(usize, StrandHead)>,
    /// When that job climbs next.
    pub climbs: Option<Moment>,
    pub segments: Vec<Segment>,
    /// Its line as it was last taken to be shown.
    pub taken: Vec<LinePart>,
    /// Its attempts that hold a slot.
    pub attempts: u32,
    /// Since when no job of it waits or runs, where that is so.
    pub unused_since: Option<Moment>,
}

pub(super) struct WaitingJobEntry {
    pub strand: usize,
    pub turn: LineOrder,
    pub since: Moment,
    pub avoid: Option<RunnerId>,
}

pub(super) struct Holder {
    pub runner: RunnerId,
    pub strand: usize,
    /// Whether it has its seats still.
    pub seated: bool,
}

#[derive(Default)]
pub(super) struct SeatCount {
    pub count: u32,
    pub taken: u32,
}

/// Parts of lines with one reason and cause.
/// What a group of waiting jobs has in common: the project, the reason and its cause.
pub(super) type GroupKey = (PlaceId, Reason, String);

#[derive(Default)]
pub(super) struct PartsOfGroup {
    pub jobs: u64,
    /// Since when the job that waits longest in a part has waited; the part's strand, and its place in it.
    pub oldest: BTreeSet<(Moment, usize, u32)>,
}

/// For which waiting jobs machines are coming.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum MachineCover {
    /// For all that such a machine could run.
    All,
    /// For a number of jobs of each of these strands.
    Some(BTreeMap<usize, u32>),
}

/// A job that was kept.
pub(super) struct SelectedJob {
    pub head: StrandHead,
    pub job: JobId,
    pub since: Moment,
    pub avoid: Option<RunnerId>,
}

/// The queue and the yard, and what follows from them. See the module's head.
pub struct State {
    /// The first thing found that cannot be so.
    pub(super) inconsistency: Option<Inconsistency>,
    /// What is being dealt with just now.
    pub(super) subject: Option<Entity>,
    /// What is left out, because it made the state inconsistent before.
    pub(super) set_aside: BTreeSet<Entity>,
    pub(super) policy: SharePolicy,
    pub(super) scale: UsageScale,
    pub(super) field: RunnerIndex,
    pub(super) tree: Tree,
    pub(super) strands: Slab<Strand>,
    /// Strands of which no job waits or runs, by since when.
    pub(super) unused: BTreeSet<(Moment, usize)>,
    pub(super) by_strand: FxHashMap<StrandId, usize>,
    pub(super) waiting: FxHashMap<JobId, WaitingJobEntry>,
    pub(super) holders: FxHashMap<AttemptId, Holder>,
    pub(super) seats: BTreeMap<String, SeatCount>,
    /// Kinds that need seats.
    pub(super) seat_kinds: FixedBitSet,
    /// Seats set aside, and the jobs for which they are, the oldest first.
    pub(super) claims: SeatReservations,
    pub(super) warm: FxHashMap<String, BTreeSet<RunnerId>>,
    /// When the first job of a strand climbs a band, or to where it may set seats aside.
    pub(super) climbs: BTreeSet<(Moment, usize)>,
    /// First jobs that need several seats at once, by age.
    pub(super) patient: BTreeSet<(LineOrder, usize)>,
    /// Classes that may have more room than at the last plan.
    pub(super) freed: BTreeSet<usize>,
    /// Kinds that may be able to use it.
    pub(super) retryable_kinds: FixedBitSet,
    /// Whether kinds and classes have to be recomputed.
    pub(super) stale: bool,
    /// Kinds and strands whose reason may be another than was said.
    pub(super) unsure_kinds: FixedBitSet,
    pub(super) dirty: BTreeSet<usize>,
    pub(super) kind_reasons: Vec<Option<Reason>>,
    /// The pools that a kind's jobs could use, those in reach where any is.
    pub(super) kind_pools: Vec<Vec<PoolId>>,
    /// The parts of the lines that were last taken, by reason and cause.
    pub(super) line_groups: BTreeMap<GroupKey, PartsOfGroup>,
    /// Groups that are others than when they were last taken.
    pub(super) changed_groups: BTreeSet<GroupKey>,
    /// Strands whose lines may be others than were last taken.
    pub(super) changed_lines: BTreeSet<usize>,
    /// Places whose load changed since the reasons were last said.
    pub(super) touched: BTreeSet<usize>,
    /// For which jobs machines are coming, as last said.
    pub(super) covered: MachineCover,
}

impl Default for State {
    fn default() -> Self {
        State::new(SharePolicy::default())
    }
}

impl State {
    /// An empty queue and yard.
    pub fn new(policy: SharePolicy) -> State {
        State {
            inconsistency: None,
            subject: None,
            set_aside: BTreeSet::new(),
            scale: UsageScale::new(&policy),
            policy,
            field: RunnerIndex::default(),
            tree: Tree::default(),
            strands: Slab::new(),
            unused: BTreeSet::new(),
            by_strand: FxHashMap::default(),
            waiting: FxHashMap::default(),
            holders: FxHashMap::default(),
            seats: BTreeMap::new(),
            seat_kinds: FixedBitSet::new(),
            claims: BTreeMap::new(),
            warm: FxHashMap::default(),
            climbs: BTreeSet::new(),
            patient: BTreeSet::new(),
            freed: BTreeSet::new(),
            retryable_kinds: FixedBitSet::new(),
            stale: false,
            unsure_kinds: FixedBitSet::new(),
            dirty: BTreeSet::new(),
            kind_reasons: Vec::new(),
            kind_pools: Vec::new(),
            line_groups: BTreeMap::new(),
            changed_groups: BTreeSet::new(),
            changed_lines: BTreeSet::new(),
            touched: BTreeSet::new(),
            covered: MachineCover::Some(BTreeMap::new()),
        }
    }

    /// Returns the inconsistency that was found, if any. The caller checks after each event and each plan,
    /// and discards the state when there is one.
    pub fn inconsistency(&self) -> Option<Inconsistency> {
        let broken = self.field.broken().or(self.tree.broken());
        let broken = broken.map(|problem| Inconsistency {
            subject: self.subject,
            problem,
        });
        self.inconsistency.or(broken)
    }

    /// Leaves out what has made a state inconsistent again and again: nothing of it is taken note of.
    pub fn set_aside(&mut self, subjects: impl IntoIterator<Item = Entity>) {
        self.set_aside.extend(subjects);
    }

    /// Notes that something cannot be so.
    pub(super) fn found(&mut self, problem: Problem) {
        let subject = self.subject;
        self.inconsistency
            .get_or_insert(Inconsistency { subject, problem });
    }

    pub(super) fn strand_at(&self, id: StrandId) -> Option<(usize, &Strand)> {
        let at = *self.by_strand.get(&id)?;
        Some((at, self.strands.get(at)?))
    }

    /// A class has gained or lost runners, or their will.
    pub(super) fn class_changed(&mut self, class: Option<usize>) {
        let Some((at, class)) = class.and_then(|at| self.field.class(at).map(|class| (at, class)))
        else {
            return;
        };
        self.freed.insert(at);
        self.unsure_kinds.union_with(&class.kinds);
        // Jobs that may not use it wait with no-match or out-of-reach.
        let satisfied = class.satisfied.clone();
        let beyond: Vec<usize> = self
            .field
            .kinds
            .iter()
            .enumerate()
            .filter(|(_, kind)| satisfied.contains(kind.requirement))
            .map(|(at, _)| at)
            .collect();
        for kind in beyond {
            self.mark_kind_dirty(kind);
        }
    }

    pub(super) fn mark_kind_dirty(&mut self, kind: usize) {
        self.unsure_kinds.grow(kind + 1);
        self.unsure_kinds.insert(kind);
    }

    pub(super) fn kind_changed(&mut self, kind: usize) {
        self.mark_kind_dirty(kind);
        self.retryable_kinds.grow(kind + 1);
        self.retryable_kinds.insert(kind);
    }
}
