//! One batch: which waiting jobs start now, and on which runners.
//!
//! Jobs are taken in order; each is kept if those kept so far, with it, can still be matched to free slots. Jobs of one
//! kind are alike and so are the slots of one class, so the matching is a flow from kinds to classes: a few numbers,
//! however many jobs and slots there are. A kind for which there is no room even after moving others of this batch
//! about has none for the rest of the batch, and is closed. Runners are chosen once the set of jobs is fixed, job by
//! job in the order in which they were taken, never so that a later one would be left out.

use super::reason::Claim;
use super::runner_index::RunnerIndex;
use super::state::State;
use super::tree::{BANDS, Head, ROOT};
use super::{Assignment, Plan};
use crate::id::{AttemptId, JobId, RunnerId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};

/// Which slots a batch is made for.
pub(super) enum Slots {
    /// Those that are free now.
    Free,
    /// Those of machines that are being made, or could be: so many of a class.
    Future(FxHashMap<usize, u32>),
}

/// A job that was kept.
pub(super) struct Kept {
    pub head: Head,
    pub job: JobId,
    pub avoid: Option<RunnerId>,
}

/// How many jobs of which kind are matched to slots of which class.
pub(super) struct Flow {
    slots: Slots,
    placed: FxHashMap<usize, u32>,
    /// Classes whose last slot was taken in this batch.
    filled: Vec<usize>,
    units: BTreeMap<(usize, usize), u32>,
}

impl Flow {
    pub(super) fn new(slots: Slots) -> Self {
        Flow {
            slots,
            placed: FxHashMap::default(),
            filled: Vec::new(),
            units: BTreeMap::new(),
        }
    }

    /// Whether a class has a slot that nobody in this batch has.
    fn spare(&self, field: &RunnerIndex, class: usize) -> bool {
        let all = match &self.slots {
            Slots::Free => field.class(class).map_or(0, |class| class.free_slots),
            Slots::Future(slots) => slots.get(&class).copied().unwrap_or(0),
        };
        all > self.placed.get(&class).copied().unwrap_or(0)
    }

    /// Whether any class of a kind has such a slot.
    fn any_spare(&self, field: &RunnerIndex, at: usize) -> bool {
        let Some(kind) = field.kind(at) else {
            return false;
        };
        if matches!(self.slots, Slots::Future(_)) {
            return kind.classes.iter().any(|class| self.spare(field, *class));
        }
        let filled = self
            .filled
            .iter()
            .filter(|class| {
                field
                    .class(**class)
                    .is_some_and(|class| class.kinds.contains(at))
            })
            .count();
        kind.has_room as usize > filled
    }

    fn add(&mut self, field: &RunnerIndex, class: usize, kind: usize) {
        *self.placed.entry(class).or_default() += 1;
        *self.units.entry((class, kind)).or_default() += 1;
        if !self.spare(field, class) {
            self.filled.push(class);
        }
    }

    fn remove(&mut self, class: usize, kind: usize) {
        self.filled.retain(|other| *other != class);
        if let Some(placed) = self.placed.get_mut(&class) {
            *placed = placed.saturating_sub(1);
        }
        if let Some(units) = self.units.get_mut(&(class, kind)) {
            *units = units.saturating_sub(1);
            if *units == 0 {
                self.units.remove(&(class, kind));
            }
        }
    }

    /// One slot fewer of a class that is yet to come.
    pub(super) fn use_up(&mut self, class: usize) {
        if let Slots::Future(slots) = &mut self.slots
            && let Some(left) = slots.get_mut(&class)
        {
            *left = left.saturating_sub(1);
        }
    }

    fn has(&self, class: usize, kind: usize) -> bool {
        self.units.contains_key(&(class, kind))
    }

    /// The kinds that have a slot of a class.
    fn kinds_in(&self, class: usize) -> impl Iterator<Item = usize> {
        self.units
            .range((class, 0)..=(class, usize::MAX))
            .map(|((_, kind), _)| *kind)
    }

    /// A class in which a kind has a slot.
    pub(super) fn class_of(&self, field: &RunnerIndex, kind: usize) -> Option<usize> {
        let classes = &field.kind(kind)?.classes;
        classes.iter().copied().find(|class| self.has(*class, kind))
    }

    /// Matches one more job of a kind, moving others about where that helps. The class that has one slot less for it
    /// comes back.
    fn place(&mut self, field: &RunnerIndex, kind: usize) -> Option<usize> {
        let found = field.kind(kind)?;
        let mut spare = found.classes.iter().copied();
        if self.any_spare(field, kind)
            && let Some(class) = spare.find(|class| self.spare(field, *class))
        {
            self.add(field, class, kind);
            return Some(class);
        }
        let (class, end) = self.path(field, found.classes.iter().copied())?;
        self.add(field, class, kind);
        Some(end)
    }

    /// Makes room in one of the classes to begin with, by moving one job after another to where there is a spare slot.
    /// The class in which there is room now comes back, with the one whose spare slot it cost. Nothing changes when
    /// there is no way.
    fn path(
        &mut self,
        field: &RunnerIndex,
        begin: impl Iterator<Item = usize>,
    ) -> Option<(usize, usize)> {
        // For each class seen: the class from which a job of this kind would move here.
        let mut from: FxHashMap<usize, Option<(usize, usize)>> = FxHashMap::default();
        let mut line: Vec<usize> = Vec::new();
        for class in begin {
            if self.kinds_in(class).next().is_some() {
                from.insert(class, None);
                line.push(class);
            }
        }
        let mut next = 0;
        while let Some(class) = line.get(next).copied() {
            next += 1;
            let kinds: Vec<usize> = self.kinds_in(class).collect();
            for kind in kinds {
                for &to in field.kind(kind).map_or(&[][..], |kind| &kind.classes) {
                    if from.contains_key(&to) {
                        continue;
                    }
                    if self.spare(field, to) {
                        return Some((self.shift(field, &from, to, class, kind), to));
                    }
                    if self.kinds_in(to).next().is_some() {
                        from.insert(to, Some((class, kind)));
                        line.push(to);
                    }
                }
            }
        }
        None
    }

    /// Moves jobs along a path that was found, from its end; the class at its beginning has room then.
    fn shift(
        &mut self,
        field: &RunnerIndex,
        from: &FxHashMap<usize, Option<(usize, usize)>>,
        end: usize,
        last: usize,
        kind: usize,
    ) -> usize {
        let (mut to, mut at, mut kind) = (end, last, kind);
        loop {
            self.remove(at, kind);
            self.add(field, to, kind);
            match from.get(&at) {
                Some(Some((before, moved))) => (to, at, kind) = (at, *before, *moved),
                _ => return at,
            }
        }
    }

    /// Classes in which room could be made by moving jobs of this batch.
    fn has_room(&self, field: &RunnerIndex) -> BTreeSet<usize> {
        let mut has_room = BTreeSet::new();
        loop {
            let before = has_room.len();
            for (class, kind) in self.units.keys() {
                // Its own class is full, or room in it is there without a way.
                let way = self.any_spare(field, *kind)
                    || has_room.iter().any(|to| {
                        to != class
                            && field
                                .class(*to)
                                .is_some_and(|class| class.kinds.contains(*kind))
                    });
                if way {
                    has_room.insert(*class);
                }
            }
            if has_room.len() == before {
                return has_room;
            }
        }
    }

    /// Closes the kinds for which there is no room any more.
    fn close(&self, field: &RunnerIndex, open: &mut FixedBitSet) {
        let has_room = self.has_room(field);
        let closed: Vec<usize> = open
            .ones()
            .filter(|kind| {
                let moved = has_room.iter().filter_map(|class| field.class(*class));
                !self.any_spare(field, *kind)
                    && !moved.clone().any(|class| class.kinds.contains(*kind))
            })
            .collect();
        for kind in closed {
            open.set(kind, false);
        }
    }
}

impl State {
    /// Takes jobs in order, as many as can be matched, and assigns them.
    pub(super) fn start_jobs(
        &mut self,
        now: Moment,
        fresh: &mut dyn FnMut() -> AttemptId,
        plan: &mut Plan,
    ) {
        let mut flow = Flow::new(Slots::Free);
        let mut kept = self.claim_seats(now, Some(&mut flow));
        let mut open = self.open_kinds();
        if !kept.is_empty() {
            flow.close(&self.field, &mut open);
        }
        if !open.is_clear() {
            self.close_seats(&mut open);
            self.walk(now, &mut flow, &mut open, &mut kept);
        }
        if !kept.is_empty() && !self.patient.is_empty() {
            // Others are the first of their strands now.
            self.claim_seats(now, None);
        }
        for one in &kept {
            if let Some(runner) = self.choose(&mut flow, one) {
                let attempt = fresh();
                let Some(pool) = self.field.runners.get(&runner).map(|r| r.view.pool) else {
                    continue;
                };
                self.field.hold(runner, attempt);
                self.note_hold(attempt, runner, one.head.strand);
                plan.assignments.push(Assignment {
                    attempt,
                    job: one.job,
                    runner,
                    pool,
                    strand: self.strand_id(one.head.strand),
                });
            }
        }
    }

    /// The kinds for which something may have changed for the better since the last plan.
    fn open_kinds(&mut self) -> FixedBitSet {
        let mut open = FixedBitSet::with_capacity(self.field.kinds.len());
        for class in std::mem::take(&mut self.freed) {
            if let Some(class) = self.field.class(class)
                && class.free_slots > 0
            {
                open.union_with(&class.kinds);
            }
        }
        let retryable_kinds = std::mem::take(&mut self.retryable_kinds);
        for kind in retryable_kinds.ones() {
            if self.field.kind(kind).is_some_and(|kind| kind.has_room > 0) {
                open.grow(kind + 1);
                open.insert(kind);
            }
        }
        open
    }

    pub(super) fn walk(
        &mut self,
        now: Moment,
        flow: &mut Flow,
        open: &mut FixedBitSet,
        kept: &mut Vec<Kept>,
    ) {
        let growth = self.scale.growth(now);
        loop {
            let head = (0..BANDS)
                .filter(|band| self.tree.any(*band, open))
                .find_map(|band| self.tree.next(ROOT, band, open, &self.scale, growth));
            let Some(head) = head else { return };
            let Some(class) = flow.place(&self.field, head.kind) else {
                flow.close(&self.field, open);
                continue;
            };
            kept.extend(self.keep(head, now, growth));
            if self.has_seats(head.kind) {
                self.close_seats(open);
            }
            // What cannot be had any more takes no part in deciding whose turn it is.
            if !flow.spare(&self.field, class) {
                flow.close(&self.field, open);
            }
        }
    }

    /// Jobs that need several seats at once and have climbed to the top set seats aside, the oldest first. With a flow
    /// they start before all others once they have them.
    fn claim_seats(&mut self, now: Moment, mut flow: Option<&mut Flow>) -> Vec<Kept> {
        let mut kept = Vec::new();
        let before = std::mem::take(&mut self.claims);
        // One that starts is followed by the next of its strand, which may be older than the others still are.
        let mut settled: BTreeSet<usize> = BTreeSet::new();
        while let Some((_, strand)) = self
            .patient
            .iter()
            .find(|(_, strand)| !settled.contains(strand))
            .copied()
        {
            let claimant = self
                .claimant(strand, now)
                .map(|head| (head, self.needs(head.kind)));
            let starts = claimant.as_ref().is_some_and(|(head, needs)| {
                let there = |(seat, count): (&String, &u32)| self.free_seats(seat) >= *count;
                needs.iter().all(there)
                    && flow
                        .as_deref_mut()
                        .is_some_and(|flow| flow.place(&self.field, head.kind).is_some())
            });
            match claimant {
                Some((head, _)) if starts => {
                    kept.extend(self.keep(head, now, self.scale.growth(now)));
                }
                Some((_, needs))
                    if needs
                        .iter()
                        .all(|(seat, count)| self.claimable(seat) >= *count) =>
                {
                    if let Some((number, job)) = self.first_in_line(strand) {
                        for (seat, count) in needs {
                            let claim = Claim { job, number, count };
                            self.claims.entry(seat).or_default().push(claim);
                        }
                    }
                    settled.insert(strand);
                }
                _ => {
                    settled.insert(strand);
                }
            }
        }
        let names = before.keys().chain(self.claims.keys());
        let changed: BTreeSet<String> = names
            .filter(|name| before.get(*name) != self.claims.get(*name))
            .cloned()
            .collect();
        for name in changed {
            self.seat_changed(&name);
        }
        kept
    }

    /// Closes the kinds whose seats are not to be had.
    pub(super) fn close_seats(&self, open: &mut FixedBitSet) {
        let short: Vec<usize> = open
            .intersection(&self.seat_kinds)
            .filter(|kind| !self.seats_there(*kind))
            .collect();
        for kind in short {
            open.set(kind, false);
        }
    }

    /// The runner for a kept job, by preference: its kept workspace, then the ability least wanted by others, then the
    /// price, then the one idle longest. The runner that lost it before comes last.
    fn choose(&mut self, flow: &mut Flow, one: &Kept) -> Option<RunnerId> {
        let kind = one.head.kind;
        let own = flow.class_of(&self.field, kind)?;
        if let Some(warm) = self.warm_runner(flow, one, own) {
            return Some(warm);
        }
        let mut waiting = None;
        for last_resort in [false, true] {
            let mut wanted: Vec<(u64, (u64, u64), Moment, usize)> = Vec::new();
            let classes: Vec<usize> = self
                .field
                .kind(kind)?
                .classes
                .iter()
                .copied()
                .filter(|class| runner_in(&self.field, *class, one.avoid, last_resort).is_some())
                .collect();
            if let [only] = classes.as_slice()
                && Self::take_in(flow, &self.field, *only, own, kind)
            {
                return runner_in(&self.field, *only, one.avoid, last_resort).map(|(_, id)| id);
            }
            if classes.len() > 1 {
                self.field.sort_classes(kind);
            }
            let ranked = self.field.kind(kind)?.classes.clone();
            for class in ranked.into_iter().filter(|class| classes.contains(class)) {
                let rank = self.field.rank(class);
                // What nobody else wants is not bettered by what comes after it.
                while wanted
                    .first()
                    .is_some_and(|first| first.0 == 0 && first.1 < rank)
                {
                    let (_, _, _, first) = wanted.remove(0);
                    if Self::take_in(flow, &self.field, first, own, kind) {
                        return runner_in(&self.field, first, one.avoid, last_resort)
                            .map(|(_, id)| id);
                    }
                }
                let Some((idle, _)) = runner_in(&self.field, class, one.avoid, last_resort) else {
                    continue;
                };
                let waiting = waiting.get_or_insert_with(|| self.waiting_kinds());
                let demand = self.field.demand(class, kind, waiting);
                let at = wanted.partition_point(|other| *other < (demand, rank, idle, class));
                wanted.insert(at, (demand, rank, idle, class));
            }
            for (_, _, _, class) in wanted {
                if Self::take_in(flow, &self.field, class, own, kind) {
                    return runner_in(&self.field, class, one.avoid, last_resort).map(|(_, id)| id);
                }
            }
        }
        debug_assert!(false, "a kept job has a slot");
        None
    }

    fn warm_runner(&mut self, flow: &mut Flow, one: &Kept, own: usize) -> Option<RunnerId> {
        let workspace = self.workspace(one.head.strand)?;
        let warm: Vec<(usize, RunnerId)> = self
            .warm
            .get(workspace)?
            .iter()
            .filter(|id| one.avoid != Some(**id))
            .filter_map(|id| {
                let runner = self.field.runners.get(id)?;
                let class = self.field.class(runner.class)?;
                let free = class.free.contains(&(runner.idle_since, *id));
                (free && class.kinds.contains(one.head.kind)).then_some((runner.class, *id))
            })
            .collect();
        warm.into_iter()
            .find(|(class, _)| Self::take_in(flow, &self.field, *class, own, one.head.kind))
            .map(|(_, id)| id)
    }

    /// Takes a kept job of a kind out of the flow for a slot of a class, if the others can still be matched then. Its
    /// slot so far is in the class `own`.
    pub(super) fn take_in(
        flow: &mut Flow,
        field: &RunnerIndex,
        class: usize,
        own: usize,
        kind: usize,
    ) -> bool {
        if flow.has(class, kind) {
            flow.remove(class, kind);
            return true;
        }
        flow.remove(own, kind);
        if flow.spare(field, class) {
            return true;
        }
        if flow.path(field, std::iter::once(class)).is_some() {
            return true;
        }
        flow.add(field, own, kind);
        false
    }
}

/// The runner of a class that was idle longest, and since when. The one to avoid is taken only as the last resort.
fn runner_in(
    field: &RunnerIndex,
    class: usize,
    avoid: Option<RunnerId>,
    last_resort: bool,
) -> Option<(Moment, RunnerId)> {
    let mut free = field.class(class)?.free.iter().copied();
    if last_resort {
        free.next()
    } else {
        free.find(|(_, id)| avoid != Some(*id))
    }
}
