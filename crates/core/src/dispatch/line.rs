//! Waiting jobs in line: the strands, their queues, and each strand's first job in its team's line.

use super::inconsistency::{Inconsistency, Problem};
use super::state::{MachineCover, SelectedJob, State, Strand, WaitingJobEntry, present};
use super::tree::{LineOrder, ROOT, StrandHead};
use super::yard::{Origin, StrandKey};
use crate::id::{JobId, RunnerId, StrandId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;
use std::time::Duration;

/// A strand of which no job has waited or run for so long is forgotten.
const FORGET_AFTER: Duration = Duration::from_secs(3600);
/// The most strands without waiting or running jobs that are kept.
const MOST_UNUSED: usize = 20_000;

impl State {
    pub(super) fn strand(&mut self, id: StrandId, key: StrandKey, path: String, now: Moment) {
        let project = self.tree.place(&path);
        if let Some(at) = self.by_strand.get(&id).copied() {
            // A project that moved takes its strands along.
            if let Some(strand) = self.strands.get_mut(at)
                && strand.path != path
            {
                let waiting = i64::try_from(strand.queue.len()).unwrap_or(i64::MAX);
                self.tree.count_waiting(strand.project, -waiting);
                self.tree.count_waiting(project, waiting);
                strand.path = path;
                strand.project = project;
                self.stale = true;
            }
            return;
        }
        let at = self.strands.insert(Strand {
            id,
            key,
            path,
            project,
            kind: None,
            queue: BTreeMap::new(),
            head: None,
            climbs: None,
            segments: Vec::new(),
            taken: Vec::new(),
            attempts: 0,
            unused_since: None,
        });
        self.by_strand.insert(id, at);
        self.note_use(at, now);
        if !self.stale {
            self.find_kind(at);
            self.enqueue_strand(at, now);
        }
        self.dirty.insert(at);
    }

    /// Finds the kind of a strand's jobs, and joins it.
    pub(super) fn find_kind(&mut self, at: usize) {
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let StrandKey {
            requirement,
            seats,
            trust,
            approved_in,
            ..
        } = &strand.key;
        let origin = Origin {
            project: &strand.path,
            trust: *trust,
            approved_in,
        };
        strand.kind = self.field.kind_of(requirement, origin, seats);
        let Some(kind) = strand.kind else { return };
        let jobs = i64::try_from(strand.queue.len()).unwrap_or(i64::MAX);
        let attempts = i64::from(strand.attempts);
        let found = present!(
            self,
            self.field.kinds.get_mut(kind),
            Problem::NoKindAt(kind)
        );
        found.strands.insert(at);
        self.field.count_waiting(kind, jobs);
        self.field.count_executing(kind, attempts);
        if !seats.is_empty() {
            self.seat_kinds.grow(kind + 1);
            self.seat_kinds.insert(kind);
        }
        self.kind_changed(kind);
    }

    pub(super) fn enqueue(
        &mut self,
        job: JobId,
        at: usize,
        turn: LineOrder,
        (since, avoid): (Moment, Option<RunnerId>),
        now: Moment,
    ) {
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let first = strand
            .queue
            .first_key_value()
            .is_none_or(|(other, _)| turn < *other);
        strand.queue.insert(turn, job);
        let (kind, project) = (strand.kind, strand.project);
        self.waiting.insert(
            job,
            WaitingJobEntry {
                strand: at,
                turn,
                since,
                avoid,
            },
        );
        self.changed_lines.insert(at);
        if let Some(kind) = kind {
            self.field.count_waiting(kind, 1);
        }
        self.tree.count_waiting(project, 1);
        self.note_use(at, now);
        if first {
            self.enqueue_strand(at, now);
        } else {
            self.length_changed(at);
        }
    }

    /// Reasons that hold for a number of jobs depend on the strand's length.
    pub(super) fn length_changed(&mut self, at: usize) {
        let counted = |strand: &Strand| {
            strand.segments.len() > 1 || strand.key.seats.values().sum::<u32>() > 1
        };
        if self.is_covered_in_part(at) || self.strands.get(at).is_some_and(counted) {
            self.dirty.insert(at);
        }
    }

    pub(super) fn withdraw(&mut self, job: JobId, now: Moment) {
        if let Some(gone) = self.waiting.remove(&job) {
            self.dequeue(gone.strand, gone.turn, now);
            self.note_use(gone.strand, now);
        }
    }

    pub(super) fn dequeue(&mut self, at: usize, turn: LineOrder, now: Moment) {
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let first = strand
            .queue
            .first_key_value()
            .is_some_and(|(other, _)| turn == *other);
        present!(self, strand.queue.remove(&turn), Problem::NotInQueue);
        self.changed_lines.insert(at);
        let (kind, project) = (strand.kind, strand.project);
        if let Some(kind) = kind {
            self.field.count_waiting(kind, -1);
        }
        self.tree.count_waiting(project, -1);
        if first {
            self.enqueue_strand(at, now);
        } else {
            self.length_changed(at);
        }
    }

    pub(super) fn leave_line(&mut self, at: usize) {
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        if let Some((band, head)) = strand.head.take() {
            self.tree.leave(band, head);
            self.patient.remove(&(head.turn, at));
        }
        if let Some(moment) = strand.climbs.take() {
            self.climbs.remove(&(moment, at));
        }
    }

    /// Puts a strand's first job into its team's line, at the band to which it has climbed.
    pub(super) fn enqueue_strand(&mut self, at: usize, now: Moment) {
        let emptied = self
            .strands
            .get(at)
            .is_some_and(|strand| strand.head.is_none());
        self.leave_line(at);
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let (Some((turn, _)), Some(kind)) = (strand.queue.first_key_value(), strand.kind) else {
            self.dirty.insert(at);
            return;
        };
        let turn = *turn;
        let climb_after = self.policy.climb_after;
        let waited = now.since(turn.0);
        let band = strand.key.band.climbed(waited, climb_after) as usize;
        let head = StrandHead {
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
        self.retryable_kinds.grow(kind + 1);
        self.retryable_kinds.insert(kind);
        if emptied {
            self.dirty.insert(at);
        }
    }

    pub(super) fn climb(&mut self, now: Moment) {
        while let Some((moment, at)) = self.climbs.first().copied() {
            if moment > now {
                return;
            }
            self.enqueue_strand(at, now);
        }
    }

    /// Takes a strand's first job out of the queue and counts its slot and seats as taken.
    pub(super) fn keep(
        &mut self,
        head: StrandHead,
        now: Moment,
        growth: f64,
    ) -> Option<SelectedJob> {
        let at = head.strand;
        let strand = present!(self, self.strands.get(at), Problem::NoStrandAt(at));
        let job = *present!(self, strand.queue.get(&head.turn), Problem::NotInQueue);
        let (since, avoid) = match self.waiting.remove(&job) {
            Some(waiting) => (waiting.since, waiting.avoid),
            None => (now, None),
        };
        self.dequeue(head.strand, head.turn, now);
        self.take_with(head.strand, growth);
        Some(SelectedJob {
            head,
            job,
            since,
            avoid,
        })
    }

    /// Undoes [`Self::keep`].
    pub(super) fn put_back(&mut self, one: SelectedJob, now: Moment) {
        self.leave_seats(one.head.strand);
        let waits = (one.since, one.avoid);
        self.enqueue(one.job, one.head.strand, one.head.turn, waits, now);
    }

    /// Notes whether any job of a strand waits or runs.
    pub(super) fn note_use(&mut self, at: usize, now: Moment) {
        let strand = present!(self, self.strands.get_mut(at), Problem::NoStrandAt(at));
        let is_used = strand.attempts > 0 || !strand.queue.is_empty();
        match (is_used, strand.unused_since) {
            (true, Some(since)) => {
                strand.unused_since = None;
                self.unused.remove(&(since, at));
            }
            (false, None) => {
                strand.unused_since = Some(now);
                self.unused.insert((now, at));
            }
            _ => {}
        }
    }

    /// Forgets strands of which no job has waited or run for long, and kinds and classes that nothing refers to any more,
    /// once they are the most of all.
    pub(super) fn forget_unused(&mut self, now: Moment) {
        while let Some((since, at)) = self.unused.first().copied() {
            let is_old = since + FORGET_AFTER <= now || self.unused.len() > MOST_UNUSED;
            // That nothing of it waits any more is said, and shown, first.
            let is_shown = |strand: &Strand| !strand.taken.is_empty();
            if !is_old || self.dirty.contains(&at) || self.strands.get(at).is_some_and(is_shown) {
                break;
            }
            self.unused.remove(&(since, at));
            self.leave_line(at);
            let gone = present!(self, self.strands.try_remove(at), Problem::NoStrandAt(at));
            self.by_strand.remove(&gone.id);
            self.changed_lines.remove(&at);
            if let MachineCover::Some(covered) = &mut self.covered {
                covered.remove(&at);
            }
            if let Some(kind) = gone.kind {
                self.field.leave_kind(kind, at);
            }
        }
        if self.field.is_mostly_unused() {
            self.stale = true;
        }
    }

    pub(super) fn strand_id(&self, at: usize) -> StrandId {
        self.strands
            .get(at)
            .map(|strand| strand.id)
            .unwrap_or_default()
    }

    /// A strand's first job, with its number.
    pub(super) fn first_in_line(&self, at: usize) -> Option<(i64, JobId)> {
        let strand = self.strands.get(at)?;
        let ((_, number), job) = strand.queue.first_key_value()?;
        Some((*number, *job))
    }

    pub(super) fn workspace(&self, at: usize) -> Option<&String> {
        self.strands.get(at)?.key.workspace.as_ref()
    }

    /// Kinds of which jobs wait.
    pub(super) fn waiting_kinds(&self) -> FixedBitSet {
        let mut waiting = FixedBitSet::with_capacity(self.field.kinds.len());
        for kinds in self.tree.waiting_kinds(ROOT) {
            waiting.union_with(kinds);
        }
        waiting
    }
}
