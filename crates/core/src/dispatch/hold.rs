//! What runs: the slots, shares and seats that attempts hold, and the seats that are set aside.

use super::inconsistency::{Inconsistency, Problem};
use super::state::{Holder, State, present};
use super::tree::StrandHead;
use super::yard::SeatNeeds;
use crate::id::{AttemptId, JobId, RunnerId};
use crate::time::Moment;

impl State {
    pub(super) fn note_hold(
        &mut self,
        attempt: AttemptId,
        runner: RunnerId,
        at: usize,
        now: Moment,
    ) {
        let holder = Holder {
            runner,
            strand: at,
            seated: true,
        };
        self.holders.insert(attempt, holder);
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        strand.attempts += 1;
        if let Some(kind) = strand.kind {
            self.field.count_executing(kind, 1);
        }
        self.note_use(at, now);
    }

    pub(super) fn take(&mut self, strand: usize, since: Moment) {
        self.take_with(strand, self.scale.growth(since));
    }

    /// Counts a slot of the strand's project, and the strand's seats, as taken.
    pub(super) fn take_with(&mut self, at: usize, growth: f64) {
        let strand = present!(self, self.strands.get(at), Problem::NoStrandAt(at));
        let (project, seats) = (strand.project, strand.key.seats.clone());
        self.tree.take(project, &self.scale, growth);
        self.touched.extend(self.tree.chain(project));
        for (name, count) in seats {
            self.seats.entry(name.clone()).or_default().taken += count;
            self.seat_changed(&name);
        }
    }

    pub(super) fn release(&mut self, attempt: AttemptId, now: Moment) {
        let Some(holder) = self.holders.remove(&attempt) else {
            return;
        };
        if let Some(class) = self.field.release(holder.runner, attempt, now) {
            self.freed.insert(class);
        }
        let at = holder.strand;
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let project = strand.project;
        match strand.attempts.checked_sub(1) {
            Some(left) => strand.attempts = left,
            None => self.found(Problem::GivenBackTwice("slots")),
        }
        if let Some(kind) = self.strands.get(at).and_then(|strand| strand.kind) {
            self.field.count_executing(kind, -1);
        }
        self.note_use(at, now);
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
    pub(super) fn limit_loosened(&mut self, place: usize) {
        for kinds in self.tree.waiting_kinds(place) {
            self.retryable_kinds.union_with(kinds);
        }
    }

    pub(super) fn keep_scale(&mut self, now: Moment) {
        if let Some(by) = self.scale.shift(now) {
            self.tree.shift(by);
        }
    }

    pub(super) fn leave_seats(&mut self, at: usize) {
        let strand = present!(self, self.strands.get(at), Problem::NoStrandAt(at));
        for (name, count) in strand.key.seats.clone() {
            let seat = self.seats.entry(name.clone()).or_default();
            match seat.taken.checked_sub(count) {
                Some(left) => seat.taken = left,
                None => self.found(Problem::GivenBackTwice("seats")),
            }
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
        self.dirty
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

    /// Seats of a name that jobs before this one have reserved.
    pub(super) fn claimed_before(&self, name: &str, job: Option<JobId>) -> u32 {
        let claims = self.claims.get(name).into_iter().flatten();
        claims
            .take_while(|claim| Some(claim.job) != job)
            .map(|claim| claim.count)
            .sum()
    }

    /// Seats that are neither held nor reserved.
    pub(super) fn free_seats(&self, name: &str) -> u32 {
        self.vacant_seats(name)
            .saturating_sub(self.claimed_before(name, None))
    }

    /// Seats that are not reserved, held or not.
    pub(super) fn claimable(&self, name: &str) -> u32 {
        let all = self.seats.get(name).map_or(0, |seat| seat.count);
        all.saturating_sub(self.claimed_before(name, None))
    }

    /// Seats that are not held, reserved or not.
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
    pub(super) fn claimant(&self, at: usize, now: Moment) -> Option<StrandHead> {
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
}
