//! Taking note of events, and planning.

use super::event::{Event, Plan, ReasonChange};
use super::inconsistency::Problem;
use super::reason::Segment;
use super::state::State;
use super::yard::{PoolView, RunnerView};
use crate::id::{AttemptId, PoolId, RunnerId, StrandId};
use crate::time::Moment;

impl State {
    /// Takes note of an event.
    pub fn apply(&mut self, event: Event, now: Moment) {
        self.keep_scale(now);
        self.subject = event.subject();
        if !self.set_aside.is_empty() && self.is_set_aside(&event) {
            return;
        }
        match event {
            Event::Strand { id, key, project } => self.strand(id, key, project, now),
            Event::Waits {
                job,
                strand,
                ready,
                number,
                since,
                avoid,
            } => {
                self.withdraw(job, now);
                match self.by_strand.get(&strand).copied() {
                    Some(at) => self.enqueue(job, at, (ready, number), (since, avoid), now),
                    None => self.found(Problem::UnknownStrand(strand)),
                }
            }
            Event::Withdrawn { job } => self.withdraw(job, now),
            Event::Runner(view) => self.runner(*view, now),
            Event::RunnerGone { id } => self.runner_gone(id, now),
            Event::Pool(view) => self.pool(*view),
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
            } => self.kept_workspace(name, runner, there),
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
                        self.note_hold(attempt, runner, at, now);
                    }
                    None => self.found(Problem::UnknownStrand(strand)),
                }
            }
            Event::Released { attempt } | Event::Refused { attempt } => self.release(attempt, now),
            Event::SeatsTakenBack { attempt } => self.seats_taken_back(attempt),
        }
    }

    fn runner_gone(&mut self, id: RunnerId, now: Moment) {
        if let Some(gone) = self.field.runner_gone(id) {
            for attempt in gone.holds {
                self.release(attempt, now);
            }
            self.class_changed(Some(gone.class));
        }
    }

    fn pool(&mut self, view: PoolView) {
        let id = view.id;
        if self.field.pool(view) {
            self.stale = true;
            return;
        }
        let classes = self.field.classes.iter().enumerate();
        let members: Vec<usize> = classes
            .filter(|(_, class)| class.pool == id)
            .map(|(at, _)| at)
            .collect();
        for class in members {
            self.class_changed(Some(class));
        }
    }

    fn kept_workspace(&mut self, name: String, runner: RunnerId, is_kept: bool) {
        let warm = self.warm.entry(name.clone()).or_default();
        if is_kept {
            warm.insert(runner);
        } else {
            warm.remove(&runner);
        }
        if warm.is_empty() {
            self.warm.remove(&name);
        }
    }

    fn seats_taken_back(&mut self, attempt: AttemptId) {
        if let Some(holder) = self.holders.get_mut(&attempt)
            && std::mem::take(&mut holder.seated)
        {
            let strand = holder.strand;
            self.leave_seats(strand);
        }
    }

    fn is_set_aside(&self, event: &Event) -> bool {
        let mut subjects = self.set_aside.iter().copied();
        // What it held is still given back, and what it was is still forgotten.
        let brings = !matches!(
            event,
            Event::Withdrawn { .. } | Event::RunnerGone { .. } | Event::Released { .. }
        );
        brings && subjects.any(|one| event.subject() == Some(one) || event.names(one))
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
        self.subject = None;
        self.keep_scale(now);
        self.forget_unused(now);
        if std::mem::take(&mut self.stale) {
            self.rebuild_kinds(now);
        }
        self.climb(now);
        let mut plan = Plan::default();
        self.start_jobs(now, fresh, &mut plan);
        plan
    }

    /// Returns which strands wait for another reason than before.
    pub fn explain(&mut self, now: Moment) -> Vec<ReasonChange> {
        if std::mem::take(&mut self.stale) {
            self.rebuild_kinds(now);
        }
        self.explain_waiting(now)
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

    /// Takes over what was said of a strand before this state was built, so that it is not said again.
    pub fn restore_reasons(&mut self, id: StrandId, segments: Vec<Segment>) {
        if let Some(at) = self.by_strand.get(&id).copied() {
            if let Some(strand) = self.strands.get_mut(at) {
                strand.segments = segments;
            }
            self.dirty.insert(at);
        }
    }

    pub(super) fn rebuild_kinds(&mut self, now: Moment) {
        let strands: Vec<usize> = self.strands.iter().map(|(at, _)| at).collect();
        for at in strands.iter().copied() {
            self.leave_line(at);
        }
        self.field.rebuild_index();
        self.seat_kinds.clear();
        self.kind_reasons.clear();
        self.kind_pools.clear();
        self.unsure_kinds.clear();
        self.retryable_kinds.clear();
        for at in strands {
            self.find_kind(at);
            self.enqueue_strand(at, now);
            self.dirty.insert(at);
        }
        self.freed.extend(0..self.field.classes.len());
    }

    pub(super) fn runner(&mut self, view: RunnerView, now: Moment) {
        let id = view.id;
        let known = self.field.runners.get(&id);
        if known.is_some_and(|known| {
            known.view.subject == view.subject
                && known.view.pool == view.pool
                && known.view.slots == view.slots
                && self.field.willingness(&known.view) == self.field.willingness(&view)
        }) {
            // Nothing that dispatch goes by has changed.
            if let Some(known) = self.field.runners.get_mut(&id) {
                known.view = view;
                self.field.note_changed(id);
            }
            return;
        }
        for class in self.field.runner(view, now) {
            self.class_changed(class);
        }
    }
}
