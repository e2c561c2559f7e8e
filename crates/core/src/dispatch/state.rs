//! The queue and the yard in memory, and the plan made from them.

use super::batch::Kept;
use super::field::Field;
use super::reason::{Reason, Segment};
use super::share::{Scale, SharePolicy};
use super::tree::{Head, Tree, Turn};
use super::yard::{PlaceView, PoolView, RunnerView, SeatNeeds, StrandKey, Willingness};
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

pub(super) struct Strand {
    pub id: StrandId,
    pub key: StrandKey,
    pub path: String,
    pub project: usize,
    /// None when its requirement cannot be read, which it could when it was submitted.
    pub kind: Option<usize>,
    /// First in, first out, by when each became ready.
    pub queue: BTreeMap<Turn, JobId>,
    /// Its first job as it stands in its team's line.
    head: Option<(usize, Head)>,
    /// When that job climbs next.
    climbs: Option<Moment>,
    pub said: Vec<Segment>,
}

struct Waiting {
    strand: usize,
    turn: Turn,
    avoid: Option<RunnerId>,
}

struct Holder {
    runner: RunnerId,
    strand: usize,
    /// Whether it has its seats still.
    seated: bool,
}

#[derive(Default)]
struct Seat {
    count: u32,
    taken: u32,
}

/// The queue and the yard, and what follows from them. See the module's head.
pub struct State {
    policy: SharePolicy,
    pub(super) scale: Scale,
    pub(super) field: Field,
    pub(super) tree: Tree,
    pub(super) strands: Vec<Strand>,
    by_strand: FxHashMap<StrandId, usize>,
    waiting: FxHashMap<JobId, Waiting>,
    holders: FxHashMap<AttemptId, Holder>,
    seats: BTreeMap<String, Seat>,
    /// Kinds that need seats.
    pub(super) seat_kinds: FixedBitSet,
    /// Seats set aside, and the jobs for which they are, the oldest first.
    pub(super) claims: BTreeMap<String, Vec<(JobId, u32)>>,
    pub(super) warm: FxHashMap<String, BTreeSet<RunnerId>>,
    /// When the first job of a strand climbs a band, or to where it may set seats aside.
    climbs: BTreeSet<(Moment, usize)>,
    /// First jobs that need several seats at once, by age.
    pub(super) patient: BTreeSet<(Turn, usize)>,
    /// Classes that may have more room than at the last plan.
    pub(super) freed: BTreeSet<usize>,
    /// Kinds that may be able to use it.
    pub(super) hopeful: FixedBitSet,
    /// Whether kinds and classes have to be worked out anew.
    stale: bool,
    /// Kinds and strands whose reason may be another than was said.
    pub(super) unsure_kinds: FixedBitSet,
    pub(super) unsure: BTreeSet<usize>,
    pub(super) kind_reasons: Vec<Option<Reason>>,
    /// Places whose load changed since the reasons were last said.
    pub(super) touched: BTreeSet<usize>,
    /// How many jobs of which strand machines are coming for, as last said.
    pub(super) covered: BTreeMap<usize, u32>,
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
            scale: Scale::new(&policy),
            policy,
            field: Field::default(),
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
            hopeful: FixedBitSet::new(),
            stale: false,
            unsure_kinds: FixedBitSet::new(),
            unsure: BTreeSet::new(),
            kind_reasons: Vec::new(),
            touched: BTreeSet::new(),
            covered: BTreeMap::new(),
        }
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
                if let Some(strand) = self.by_strand.get(&strand).copied() {
                    self.enqueue(job, strand, (ready, number), avoid, now);
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
                if let Some(strand) = self.by_strand.get(&strand).copied()
                    && !self.holders.contains_key(&attempt)
                {
                    self.take(strand, since);
                    self.field.hold(runner, attempt);
                    self.note_hold(attempt, runner, strand);
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
        self.keep_scale(now);
        if std::mem::take(&mut self.stale) {
            self.anew(now);
        }
        self.climb(now);
        let mut plan = Plan::default();
        self.start_jobs(now, fresh, &mut plan);
        self.say_reasons(now, &mut plan);
        plan
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
            self.unsure.insert(at);
        }
    }

    // Strands and their jobs.

    fn strand(&mut self, id: StrandId, key: StrandKey, path: String, now: Moment) {
        let project = self.tree.place(&path);
        if let Some(at) = self.by_strand.get(&id).copied() {
            // A project that moved takes its strands along.
            if let Some(strand) = self.strands.get_mut(at)
                && strand.path != path
            {
                strand.path = path;
                strand.project = project;
                self.stale = true;
            }
            return;
        }
        let at = self.strands.len();
        self.by_strand.insert(id, at);
        self.strands.push(Strand {
            id,
            key,
            path,
            project,
            kind: None,
            queue: BTreeMap::new(),
            head: None,
            climbs: None,
            said: Vec::new(),
        });
        if !self.stale {
            self.find_kind(at);
            self.line_up(at, now);
        }
        self.unsure.insert(at);
    }

    /// Finds the kind of a strand's jobs, and joins it.
    fn find_kind(&mut self, at: usize) {
        let Some(strand) = self.strands.get_mut(at) else {
            return;
        };
        let StrandKey {
            requirement, seats, ..
        } = &strand.key;
        strand.kind = self.field.kind_of(requirement, &strand.path, seats);
        let Some(kind) = strand.kind else { return };
        let jobs = u32::try_from(strand.queue.len()).unwrap_or(u32::MAX);
        if let Some(found) = self.field.kinds.get_mut(kind) {
            found.strands.push(at);
            found.waiting += jobs;
        }
        if !seats.is_empty() {
            self.seat_kinds.grow(kind + 1);
            self.seat_kinds.insert(kind);
        }
        self.kind_changed(kind);
    }

    fn anew(&mut self, now: Moment) {
        for at in 0..self.strands.len() {
            self.leave_line(at);
        }
        self.field.anew();
        self.seat_kinds.clear();
        self.kind_reasons.clear();
        self.unsure_kinds.clear();
        self.hopeful.clear();
        for at in 0..self.strands.len() {
            self.find_kind(at);
            self.line_up(at, now);
            self.unsure.insert(at);
        }
        self.freed.extend(0..self.field.classes.len());
    }

    fn enqueue(&mut self, job: JobId, at: usize, turn: Turn, avoid: Option<RunnerId>, now: Moment) {
        let Some(strand) = self.strands.get_mut(at) else {
            return;
        };
        let first = strand
            .queue
            .first_key_value()
            .is_none_or(|(other, _)| turn < *other);
        strand.queue.insert(turn, job);
        let kind = strand.kind;
        self.waiting.insert(
            job,
            Waiting {
                strand: at,
                turn,
                avoid,
            },
        );
        if let Some(kind) = kind.and_then(|kind| self.field.kinds.get_mut(kind)) {
            kind.waiting += 1;
        }
        if first {
            self.line_up(at, now);
        } else {
            self.length_changed(at);
        }
    }

    /// Reasons that hold for so many jobs of a strand follow its length.
    fn length_changed(&mut self, at: usize) {
        let counted =
            |strand: &Strand| strand.said.len() > 1 || strand.key.seats.values().sum::<u32>() > 1;
        if self.covered.contains_key(&at) || self.strands.get(at).is_some_and(counted) {
            self.unsure.insert(at);
        }
    }

    fn withdraw(&mut self, job: JobId, now: Moment) {
        if let Some(gone) = self.waiting.remove(&job) {
            self.dequeue(gone.strand, gone.turn, now);
        }
    }

    fn dequeue(&mut self, at: usize, turn: Turn, now: Moment) {
        let Some(strand) = self.strands.get_mut(at) else {
            return;
        };
        let first = strand
            .queue
            .first_key_value()
            .is_some_and(|(other, _)| turn == *other);
        strand.queue.remove(&turn);
        if let Some(kind) = strand.kind.and_then(|kind| self.field.kinds.get_mut(kind)) {
            kind.waiting = kind.waiting.saturating_sub(1);
        }
        if first {
            self.line_up(at, now);
        } else {
            self.length_changed(at);
        }
    }

    fn leave_line(&mut self, at: usize) {
        let Some(strand) = self.strands.get_mut(at) else {
            return;
        };
        if let Some((band, head)) = strand.head.take() {
            self.tree.leave(band, head);
            self.patient.remove(&(head.turn, at));
        }
        if let Some(moment) = strand.climbs.take() {
            self.climbs.remove(&(moment, at));
        }
    }

    /// Puts a strand's first job into its team's line, at the band to which it has climbed.
    fn line_up(&mut self, at: usize, now: Moment) {
        let emptied = self
            .strands
            .get(at)
            .is_some_and(|strand| strand.head.is_none());
        self.leave_line(at);
        let Some(strand) = self.strands.get_mut(at) else {
            return;
        };
        let (Some((turn, _)), Some(kind)) = (strand.queue.first_key_value(), strand.kind) else {
            self.unsure.insert(at);
            return;
        };
        let turn = *turn;
        let climb_after = self.policy.climb_after;
        let waited = now.since(turn.0);
        let band = strand.key.band.climbed(waited, climb_after) as usize;
        let head = Head {
            kind,
            turn,
            strand: at,
            project: strand.project,
        };
        strand.head = Some((band, head));
        self.tree.stand(band, head);
        // Once it is at the top there is one more moment: when it may set seats aside.
        let top = climb_after * strand.key.band.above().max(1);
        let steps = u32::try_from(waited.as_micros() / climb_after.as_micros().max(1))
            .unwrap_or(u32::MAX - 1);
        let next = climb_after.saturating_mul(steps + 1);
        if next <= top {
            strand.climbs = Some(turn.0 + next);
            self.climbs.insert((turn.0 + next, at));
        }
        if strand.key.seats.values().sum::<u32>() > 1 {
            self.patient.insert((turn, at));
        }
        self.hopeful.grow(kind + 1);
        self.hopeful.insert(kind);
        if emptied {
            self.unsure.insert(at);
        }
    }

    fn climb(&mut self, now: Moment) {
        while let Some((moment, at)) = self.climbs.first().copied() {
            if moment > now {
                return;
            }
            self.line_up(at, now);
        }
    }

    /// Takes a strand's first job out of the queue and counts its slot and seats as taken.
    pub(super) fn keep(&mut self, head: Head, now: Moment, growth: f64) -> Option<Kept> {
        let strand = self.strands.get(head.strand)?;
        let job = *strand.queue.get(&head.turn)?;
        let avoid = self.waiting.remove(&job).and_then(|waiting| waiting.avoid);
        self.dequeue(head.strand, head.turn, now);
        self.take_with(head.strand, growth);
        Some(Kept { head, job, avoid })
    }

    /// Undoes [`Self::keep`].
    pub(super) fn put_back(&mut self, one: Kept, now: Moment) {
        self.leave_seats(one.head.strand);
        self.enqueue(one.job, one.head.strand, one.head.turn, one.avoid, now);
    }

    pub(super) fn strand_id(&self, at: usize) -> StrandId {
        self.strands
            .get(at)
            .map(|strand| strand.id)
            .unwrap_or_default()
    }

    pub(super) fn first_job(&self, at: usize) -> JobId {
        self.strands
            .get(at)
            .and_then(|strand| strand.queue.first_key_value())
            .map(|(_, job)| *job)
            .unwrap_or_default()
    }

    pub(super) fn workspace(&self, at: usize) -> Option<&String> {
        self.strands.get(at)?.key.workspace.as_ref()
    }

    /// Kinds of which jobs wait.
    pub(super) fn waiting_kinds(&self) -> FixedBitSet {
        let mut waiting = FixedBitSet::with_capacity(self.field.kinds.len());
        for kinds in self.tree.waiting_kinds(super::tree::ROOT) {
            waiting.union_with(kinds);
        }
        waiting
    }

    // Runners and slots.

    fn runner(&mut self, view: RunnerView, now: Moment) {
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
    fn class_changed(&mut self, class: Option<usize>) {
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

    fn kind_unsure(&mut self, kind: usize) {
        self.unsure_kinds.grow(kind + 1);
        self.unsure_kinds.insert(kind);
    }

    fn kind_changed(&mut self, kind: usize) {
        self.kind_unsure(kind);
        self.hopeful.grow(kind + 1);
        self.hopeful.insert(kind);
    }

    pub(super) fn note_hold(&mut self, attempt: AttemptId, runner: RunnerId, strand: usize) {
        self.holders.insert(
            attempt,
            Holder {
                runner,
                strand,
                seated: true,
            },
        );
    }

    fn take(&mut self, strand: usize, since: Moment) {
        self.take_with(strand, self.scale.growth(since));
    }

    /// Counts a slot of the strand's project, and the strand's seats, as taken.
    fn take_with(&mut self, at: usize, growth: f64) {
        let Some(strand) = self.strands.get(at) else {
            return;
        };
        let (project, seats) = (strand.project, strand.key.seats.clone());
        self.tree.take(project, &self.scale, growth);
        self.touched.extend(self.tree.chain(project));
        for (name, count) in seats {
            self.seats.entry(name.clone()).or_default().taken += count;
            self.seat_changed(&name);
        }
    }

    fn release(&mut self, attempt: AttemptId, now: Moment) {
        let Some(holder) = self.holders.remove(&attempt) else {
            return;
        };
        if let Some(class) = self.field.release(holder.runner, attempt, now) {
            self.freed.insert(class);
        }
        let Some(strand) = self.strands.get(holder.strand) else {
            return;
        };
        let project = strand.project;
        let growth = self.scale.growth(now);
        for place in self.tree.give_back(project, &self.scale, growth) {
            self.limit_loosened(place);
        }
        self.touched.extend(self.tree.chain(project));
        if holder.seated {
            self.leave_seats(holder.strand);
        }
    }

    /// What waits below a place may have become able to start.
    fn limit_loosened(&mut self, place: usize) {
        for kinds in self.tree.waiting_kinds(place) {
            self.hopeful.union_with(kinds);
        }
    }

    fn keep_scale(&mut self, now: Moment) {
        if let Some(by) = self.scale.shift(now) {
            self.tree.shift(by);
        }
    }

    // Seats.

    fn leave_seats(&mut self, at: usize) {
        let Some(strand) = self.strands.get(at) else {
            return;
        };
        for (name, count) in strand.key.seats.clone() {
            let seat = self.seats.entry(name.clone()).or_default();
            seat.taken = seat.taken.saturating_sub(count);
            self.seat_changed(&name);
        }
    }

    pub(super) fn seat_changed(&mut self, name: &str) {
        let kinds: Vec<usize> = self
            .seat_kinds
            .ones()
            .filter(|kind| {
                self.field
                    .kind(*kind)
                    .is_some_and(|kind| kind.seats.contains_key(name))
            })
            .collect();
        for kind in kinds {
            self.kind_changed(kind);
        }
        // Those who set seats aside have reasons of their own.
        self.unsure
            .extend(self.patient.iter().map(|(_, strand)| *strand));
    }

    pub(super) fn needs(&self, kind: usize) -> SeatNeeds {
        self.field
            .kind(kind)
            .map(|kind| kind.seats.clone())
            .unwrap_or_default()
    }

    pub(super) fn has_seats(&self, kind: usize) -> bool {
        self.seat_kinds.contains(kind)
    }

    /// Seats of a name that are set aside, by whoever comes before this job.
    pub(super) fn claimed_before(&self, name: &str, job: Option<JobId>) -> u32 {
        let claims = self.claims.get(name).into_iter().flatten();
        claims
            .take_while(|(other, _)| Some(*other) != job)
            .map(|(_, count)| count)
            .sum()
    }

    /// Seats that nobody holds and nobody has set aside.
    pub(super) fn free_seats(&self, name: &str) -> u32 {
        self.vacant_seats(name)
            .saturating_sub(self.claimed_before(name, None))
    }

    /// Seats that nobody has set aside, whoever holds them.
    pub(super) fn claimable(&self, name: &str) -> u32 {
        let all = self.seats.get(name).map_or(0, |seat| seat.count);
        all.saturating_sub(self.claimed_before(name, None))
    }

    /// Seats that nobody holds, set aside or not.
    pub(super) fn vacant_seats(&self, name: &str) -> u32 {
        self.seats
            .get(name)
            .map_or(0, |seat| seat.count.saturating_sub(seat.taken))
    }

    pub(super) fn seats_there(&self, kind: usize) -> bool {
        self.field.kind(kind).is_some_and(|kind| {
            kind.seats
                .iter()
                .all(|(name, count)| self.free_seats(name) >= *count)
        })
    }

    /// A strand's first job, if it may set seats aside: it has climbed to the top, runners take work of its kind, and
    /// no limit is in its way.
    pub(super) fn claimant(&self, at: usize, now: Moment) -> Option<Head> {
        let strand = self.strands.get(at)?;
        let (_, head) = strand.head?;
        let top = self.policy.climb_after * strand.key.band.above().max(1);
        let taken = || {
            self.field.kind(head.kind).is_some_and(|kind| {
                kind.classes.iter().any(|class| {
                    self.field
                        .class(*class)
                        .is_some_and(|class| class.takes > 0)
                })
            })
        };
        (now.since(head.turn.0) >= top && self.tree.limited_by(strand.project).is_none() && taken())
            .then_some(head)
    }

    /// How willing a runner is, its pool minded.
    pub fn willingness(&self, view: &RunnerView) -> Willingness {
        self.field.willingness(view)
    }
}
