//! One batch: which waiting jobs start now, and on which runners.
//!
//! Jobs are taken in order; each is kept if those kept so far, with it, can still be matched to free slots. Jobs of one
//! kind are alike and so are the slots of one class, so the matching is a flow from kinds to classes: a few numbers,
//! however many jobs and slots there are. A kind for which there is no room even after moving others of this batch
//! about has none for the rest of the batch, and is closed. Runners are chosen once the set of jobs is fixed, job by
//! job in the order in which they were taken, never so that a later one would be left out.

use super::event::{Assignment, Plan};
use super::flow::{Flow, Slots};
use super::inconsistency::{Entity, Inconsistency, Problem};
use super::reason::SeatReservation;
use super::runner_index::RunnerIndex;
use super::state::{SelectedJob, State, present};
use super::tree::{BANDS, ROOT};
use crate::id::{AttemptId, RunnerId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use std::collections::BTreeSet;

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
            self.subject = Some(Entity::Job(one.job));
            let chosen = self.choose(&mut flow, one);
            // A job never leaves the queue without a runner.
            let runner = present!(self, chosen, Problem::Unassigned);
            let known = self.field.runners.get(&runner);
            let pool = present!(self, known, Problem::Unassigned).view.pool;
            let attempt = fresh();
            self.field.hold(runner, attempt);
            self.note_hold(attempt, runner, one.head.strand, now);
            plan.assignments.push(Assignment {
                attempt,
                job: one.job,
                runner,
                pool,
                strand: self.strand_id(one.head.strand),
            });
        }
        self.subject = None;
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
        kept: &mut Vec<SelectedJob>,
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
            let Some(one) = self.keep(head, now, growth) else {
                // The state is inconsistent, and says so.
                return;
            };
            kept.push(one);
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
    fn claim_seats(&mut self, now: Moment, mut flow: Option<&mut Flow>) -> Vec<SelectedJob> {
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
                            let claim = SeatReservation { job, number, count };
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

    /// Closes the kinds whose seats are not available.
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
    fn choose(&mut self, flow: &mut Flow, one: &SelectedJob) -> Option<RunnerId> {
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
                && flow.take_in(&self.field, *only, own, kind)
            {
                return runner_in(&self.field, *only, one.avoid, last_resort).map(|(_, id)| id);
            }
            if classes.len() > 1 {
                self.field.sort_classes(kind);
            }
            let ranked = self.field.kind(kind)?.classes.clone();
            for class in ranked.into_iter().filter(|class| classes.contains(class)) {
                let rank = self.field.rank(class);
                // A slot that no other job can use is not improved by later ones.
                while wanted
                    .first()
                    .is_some_and(|first| first.0 == 0 && first.1 < rank)
                {
                    let (_, _, _, first) = wanted.remove(0);
                    if flow.take_in(&self.field, first, own, kind) {
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
                if flow.take_in(&self.field, class, own, kind) {
                    return runner_in(&self.field, class, one.avoid, last_resort).map(|(_, id)| id);
                }
            }
        }
        None
    }

    fn warm_runner(&mut self, flow: &mut Flow, one: &SelectedJob, own: usize) -> Option<RunnerId> {
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
            .find(|(class, _)| flow.take_in(&self.field, *class, own, one.head.kind))
            .map(|(_, id)| id)
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
