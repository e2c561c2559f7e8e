//! The queue and the yard in memory, and the plan made from them.

use super::demand::Covered;
use super::hold::{Holder, Seat};
use super::line::{Strand, Waiting};
use super::reason::{KeptBack, Reason, Segment};
use super::runner_index::RunnerIndex;
use super::share::{Scale, SharePolicy};
use super::tree::{Tree, Turn};
use super::yard::{PlaceView, PoolView, RunnerLoad, RunnerView, StrandKey, Willingness};
use crate::answer::QueueSample;
use crate::id::{AttemptId, JobId, PoolId, RunnerId, StrandId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};
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

/// What cannot be so: an event about a strand that the state was never told of. The state is worth nothing from then on and
/// has to be built anew from the record; going on would lose a job or a slot in silence.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum Inconsistency {
    #[error("job {job} waits in strand {strand}, which is not known")]
    WaitsInUnknownStrand { job: JobId, strand: StrandId },
    #[error("attempt {attempt} is of strand {strand}, which is not known")]
    HoldsInUnknownStrand {
        attempt: AttemptId,
        strand: StrandId,
    },
}

/// The queue and the yard, and what follows from them. See the module's head.
pub struct State {
    /// The first thing found that cannot be so.
    pub(super) inconsistency: Option<Inconsistency>,
    pub(super) policy: SharePolicy,
    pub(super) scale: Scale,
    pub(super) field: RunnerIndex,
    pub(super) tree: Tree,
    pub(super) strands: Vec<Strand>,
    pub(super) by_strand: FxHashMap<StrandId, usize>,
    pub(super) waiting: FxHashMap<JobId, Waiting>,
    pub(super) holders: FxHashMap<AttemptId, Holder>,
    pub(super) seats: BTreeMap<String, Seat>,
    /// Kinds that need seats.
    pub(super) seat_kinds: FixedBitSet,
    /// Seats set aside, and the jobs for which they are, the oldest first.
    pub(super) claims: KeptBack,
    pub(super) warm: FxHashMap<String, BTreeSet<RunnerId>>,
    /// When the first job of a strand climbs a band, or to where it may set seats aside.
    pub(super) climbs: BTreeSet<(Moment, usize)>,
    /// First jobs that need several seats at once, by age.
    pub(super) patient: BTreeSet<(Turn, usize)>,
    /// Classes that may have more room than at the last plan.
    pub(super) freed: BTreeSet<usize>,
    /// Kinds that may be able to use it.
    pub(super) retryable_kinds: FixedBitSet,
    /// Whether kinds and classes have to be worked out anew.
    pub(super) stale: bool,
    /// Kinds and strands whose reason may be another than was said.
    pub(super) unsure_kinds: FixedBitSet,
    pub(super) dirty: BTreeSet<usize>,
    pub(super) kind_reasons: Vec<Option<Reason>>,
    /// Places whose load changed since the reasons were last said.
    pub(super) touched: BTreeSet<usize>,
    /// For which jobs machines are coming, as last said.
    pub(super) covered: Covered,
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
            scale: Scale::new(&policy),
            policy,
            field: RunnerIndex::default(),
            tree: Tree::default(),
            strands: Vec::new(),
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
            touched: BTreeSet::new(),
            covered: Covered::Some(BTreeMap::new()),
        }
    }

    /// Returns what was found that cannot be so, if anything was. Whoever applies events asks after each batch of them, and
    /// throws the state away when there is something.
    pub fn inconsistency(&self) -> Option<Inconsistency> {
        self.inconsistency
    }

    fn found_inconsistent(&mut self, found: Inconsistency) {
        self.inconsistency.get_or_insert(found);
    }

    /// Takes note of an event.
    pub fn apply(&mut self, event: Event, now: Moment) {
        self.keep_scale(now);
        match event {
            Event::Strand { id, key, project } => self.strand(id, key, project, now),
            Event::Waits {
                job,
                strand,
                ready,
                number,
                avoid,
            } => {
                self.withdraw(job, now);
                match self.by_strand.get(&strand).copied() {
                    Some(at) => self.enqueue(job, at, (ready, number), avoid, now),
                    None => {
                        self.found_inconsistent(Inconsistency::WaitsInUnknownStrand {
                            job,
                            strand,
                        });
                    }
                }
            }
            Event::Withdrawn { job } => self.withdraw(job, now),
            Event::Runner(view) => self.runner(*view, now),
            Event::RunnerGone { id } => {
                if let Some(gone) = self.field.runner_gone(id) {
                    for attempt in gone.holds {
                        self.release(attempt, now);
                    }
                    self.class_changed(Some(gone.class));
                }
            }
            Event::Pool(view) => {
                let id = view.id;
                if self.field.pool(*view) {
                    self.stale = true;
                } else {
                    let members: Vec<usize> = self
                        .field
                        .classes
                        .iter()
                        .enumerate()
                        .filter(|(_, class)| class.pool == id)
                        .map(|(at, _)| at)
                        .collect();
                    for class in members {
                        self.class_changed(Some(class));
                    }
                }
            }
            Event::Place(view) => {
                let place = self.tree.place(&view.path);
                self.tree.set(place, view.weight, view.limit);
                self.limit_loosened(place);
                self.touched.insert(place);
            }
            Event::Seats { name, count } => {
                self.seats.entry(name.clone()).or_default().count = count;
                self.seat_changed(&name);
            }
            Event::Workspace {
                name,
                runner,
                there,
            } => {
                let warm = self.warm.entry(name.clone()).or_default();
                if there {
                    warm.insert(runner);
                } else {
                    warm.remove(&runner);
                }
                if warm.is_empty() {
                    self.warm.remove(&name);
                }
            }
            Event::Used { project, slot_time } => {
                let place = self.tree.place(&project);
                self.tree.add(place, slot_time, self.scale.growth(now));
            }
            Event::Holds {
                attempt,
                job,
                runner,
                strand,
                since,
            } => {
                self.withdraw(job, now);
                match self.by_strand.get(&strand).copied() {
                    // Said twice, it changes nothing.
                    Some(_) if self.holders.contains_key(&attempt) => {}
                    Some(at) => {
                        self.take(at, since);
                        self.field.hold(runner, attempt);
                        self.note_hold(attempt, runner, at);
                    }
                    None => {
                        self.found_inconsistent(Inconsistency::HoldsInUnknownStrand {
                            attempt,
                            strand,
                        });
                    }
                }
            }
            Event::Released { attempt } | Event::Refused { attempt } => self.release(attempt, now),
            Event::SeatsTakenBack { attempt } => {
                if let Some(holder) = self.holders.get_mut(&attempt)
                    && std::mem::take(&mut holder.seated)
                {
                    let strand = holder.strand;
                    self.leave_seats(strand);
                }
            }
        }
    }

    /// Assigns as many waiting jobs as there are free slots for, in order, and says what the reasons of the others
    /// now are. What it assigns it counts as held at once. `fresh` gives the id of each new attempt.
    pub fn plan(&mut self, now: Moment, fresh: &mut dyn FnMut() -> AttemptId) -> Plan {
        let mut plan = self.start(now, fresh);
        plan.reasons = self.explain_waiting(now);
        plan
    }

    /// The assignments of a plan alone; the reasons of what is left waiting are said with [`State::explain`], after what else
    /// is decided meanwhile.
    pub fn start(&mut self, now: Moment, fresh: &mut dyn FnMut() -> AttemptId) -> Plan {
        self.keep_scale(now);
        if std::mem::take(&mut self.stale) {
            self.anew(now);
        }
        self.climb(now);
        let mut plan = Plan::default();
        self.start_jobs(now, fresh, &mut plan);
        plan
    }

    /// Returns which strands wait for another reason than before.
    pub fn explain(&mut self, now: Moment) -> Vec<ReasonChange> {
        if std::mem::take(&mut self.stale) {
            self.anew(now);
        }
        self.explain_waiting(now)
    }

    /// When the order of the waiting jobs changes next by itself.
    pub fn next_climb(&self) -> Option<Moment> {
        self.climbs.first().map(|(at, _)| *at)
    }

    /// How many jobs wait for a runner.
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// How many slots the runners that take work have, and how many of them are free.
    pub fn slots(&self) -> (u64, u64) {
        self.field
            .classes
            .iter()
            .fold((0, 0), |(all, free), class| {
                (
                    all + u64::from(class.slots),
                    free + u64::from(class.free_slots),
                )
            })
    }

    /// How a runner stands.
    pub fn load_of(&self, id: RunnerId) -> Option<RunnerLoad> {
        let runner = self.field.runners.get(&id)?;
        Some(RunnerLoad {
            willingness: self.field.willingness(&runner.view),
            used: u32::try_from(runner.holds.len()).unwrap_or(u32::MAX),
            idle_since: runner.idle_since,
            drains: runner.view.drains(),
        })
    }

    /// The runners whose load may be another than when this was last asked.
    pub fn take_changed_loads(&mut self) -> Vec<RunnerId> {
        self.field.take_changed()
    }

    /// Takes note of what a pool's keeper has decided: the slots of machines that are coming, why no further one can be
    /// had, and the ceiling where it is reached.
    pub fn set_supply(
        &mut self,
        pool: PoolId,
        coming: u32,
        short: Option<&str>,
        full: Option<u32>,
    ) {
        if let Some(class) = self.field.set_supply(pool, coming, short, full) {
            self.class_changed(Some(class));
        }
    }

    /// The pool as last told.
    pub fn pool_view(&self, id: PoolId) -> Option<&PoolView> {
        self.field.pools.get(&id)
    }

    /// How many slots of a runner are in use.
    pub fn used_by(&self, runner: RunnerId) -> usize {
        self.holders
            .values()
            .filter(|held| held.runner == runner)
            .count()
    }

    /// Slots of machines that are being made.
    pub fn coming(&self) -> u32 {
        self.field.pools.values().map(|pool| pool.coming).sum()
    }

    /// How each pool stands: the jobs that wait and that it could take, and its slots.
    pub fn levels(&self) -> BTreeMap<PoolId, QueueSample> {
        let pools = self.field.pools.values();
        let mut levels: BTreeMap<PoolId, (QueueSample, FixedBitSet)> = pools
            .map(|pool| {
                let level = QueueSample {
                    coming: pool.coming,
                    ..QueueSample::default()
                };
                let kinds = FixedBitSet::with_capacity(self.field.kinds.len());
                (pool.id, (level, kinds))
            })
            .collect();
        for class in &self.field.classes {
            let Some((level, kinds)) = levels.get_mut(&class.pool) else {
                continue;
            };
            level.idle += class.free_slots;
            if class.future || class.takes + class.paused + class.offline > 0 {
                kinds.union_with(&class.kinds);
            }
        }
        for runner in self.field.runners.values() {
            if let Some((level, _)) = levels.get_mut(&runner.view.pool) {
                level.executing += u32::try_from(runner.holds.len()).unwrap_or(u32::MAX);
            }
        }
        let waiting = |kinds: &FixedBitSet| {
            let kinds = kinds.ones().filter_map(|kind| self.field.kind(kind));
            kinds.map(|kind| kind.waiting).sum()
        };
        levels
            .into_iter()
            .map(|(pool, (level, kinds))| {
                let waiting = waiting(&kinds);
                (pool, QueueSample { waiting, ..level })
            })
            .collect()
    }

    /// Which seats are kept back, for jobs that need several.
    pub fn kept_back(&self) -> &KeptBack {
        &self.claims
    }

    /// How many slots are in use, on whatever runner.
    pub fn used(&self) -> usize {
        self.holders.len()
    }

    /// Slot-time that a place used of late, decayed to this moment, and the slots that it holds.
    pub fn share(&self, path: &str, now: Moment) -> Option<(Duration, u32)> {
        let place = self.tree.known(path)?;
        let recent = self.tree.recent(place, &self.scale, self.scale.growth(now));
        Some((recent, self.tree.load(place).0))
    }

    /// Seats of a name: how many there are, and how many are taken.
    pub fn seats_of(&self, name: &str) -> Option<(u32, u32)> {
        self.seats.get(name).map(|seat| (seat.count, seat.taken))
    }

    /// The runner as last told, if it is known.
    pub fn runner_view(&self, id: RunnerId) -> Option<&RunnerView> {
        self.field.runners.get(&id).map(|runner| &runner.view)
    }

    /// Every runner as last told.
    pub fn runner_views(&self) -> impl Iterator<Item = &RunnerView> {
        self.field.runners.values().map(|runner| &runner.view)
    }

    /// Whether the strand was told.
    pub fn knows_strand(&self, id: StrandId) -> bool {
        self.by_strand.contains_key(&id)
    }

    pub(super) fn strand_at(&self, id: StrandId) -> Option<(usize, &Strand)> {
        let at = *self.by_strand.get(&id)?;
        Some((at, self.strands.get(at)?))
    }

    /// Takes over what was said of a strand before this state was built, so that it is not said again.
    pub fn said_before(&mut self, id: StrandId, segments: Vec<Segment>) {
        if let Some(at) = self.by_strand.get(&id).copied() {
            if let Some(strand) = self.strands.get_mut(at) {
                strand.said = segments;
            }
            self.dirty.insert(at);
        }
    }

    // Strands and their jobs.

    pub(super) fn anew(&mut self, now: Moment) {
        for at in 0..self.strands.len() {
            self.leave_line(at);
        }
        self.field.anew();
        self.seat_kinds.clear();
        self.kind_reasons.clear();
        self.unsure_kinds.clear();
        self.retryable_kinds.clear();
        for at in 0..self.strands.len() {
            self.find_kind(at);
            self.line_up(at, now);
            self.dirty.insert(at);
        }
        self.freed.extend(0..self.field.classes.len());
    }

    // Runners and slots.

    pub(super) fn runner(&mut self, view: RunnerView, now: Moment) {
        let known = self.field.runners.get(&view.id);
        if known.is_some_and(|known| {
            known.view.subject == view.subject
                && known.view.pool == view.pool
                && known.view.slots == view.slots
                && self.field.willingness(&known.view) == self.field.willingness(&view)
        }) {
            // Nothing that dispatch goes by has changed.
            if let Some(known) = self.field.runners.get_mut(&view.id) {
                known.view = view;
            }
            return;
        }
        for class in self.field.runner(view, now) {
            self.class_changed(class);
        }
    }

    /// A class has gained or lost runners, or their will.
    pub(super) fn class_changed(&mut self, class: Option<usize>) {
        let Some((at, class)) = class.and_then(|at| self.field.class(at).map(|class| (at, class)))
        else {
            return;
        };
        self.freed.insert(at);
        self.unsure_kinds.union_with(&class.kinds);
        // Those out of whose reach it is wait for no match, or for the reach.
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
            self.kind_unsure(kind);
        }
    }

    pub(super) fn kind_unsure(&mut self, kind: usize) {
        self.unsure_kinds.grow(kind + 1);
        self.unsure_kinds.insert(kind);
    }

    pub(super) fn kind_changed(&mut self, kind: usize) {
        self.kind_unsure(kind);
        self.retryable_kinds.grow(kind + 1);
        self.retryable_kinds.insert(kind);
    }

    // Seats.

    /// How willing a runner is, its pool minded.
    pub fn willingness(&self, view: &RunnerView) -> Willingness {
        self.field.willingness(view)
    }
}
