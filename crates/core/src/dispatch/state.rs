//! The queue and the yard in memory, and the plan made from them.

use super::reason::{Reason, Segment, Standing};
use super::yard::{PoolView, RunnerView, StrandKey, Willingness};
use crate::id::{AttemptId, JobId, PoolId, RunnerId, StrandId};
use crate::requirement::Requirement;
use crate::time::Moment;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

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
    Pool(PoolView),
    /// An attempt holds a slot.
    Holds {
        attempt: AttemptId,
        job: JobId,
        runner: RunnerId,
    },
    /// An attempt holds its slot no more.
    Released { attempt: AttemptId },
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

struct Strand {
    key: StrandKey,
    project: String,
    /// First in, first out, by when each became ready.
    queue: BTreeMap<(Moment, i64), JobId>,
    said: Vec<Segment>,
}

struct Waiting {
    strand: StrandId,
    place: (Moment, i64),
    avoid: Option<RunnerId>,
}

struct Wanted {
    requirement: Requirement,
    /// The runners whose pools admit it. Reach is not counted in: it belongs to the project.
    admitted: HashSet<RunnerId>,
}

struct Runner {
    view: RunnerView,
    holds: HashSet<AttemptId>,
    idle_since: Moment,
}

impl Runner {
    fn free(&self) -> bool {
        self.view.willingness() == Willingness::Takes
            && (self.holds.len() as u64) < u64::from(self.view.slots)
    }
}

/// The queue and the yard, and what follows from them. See the module's head.
#[derive(Default)]
pub struct State {
    strands: HashMap<StrandId, Strand>,
    waiting: HashMap<JobId, Waiting>,
    wanted: HashMap<String, Wanted>,
    runners: BTreeMap<RunnerId, Runner>,
    pools: HashMap<PoolId, PoolView>,
    holders: HashMap<AttemptId, RunnerId>,
    /// Runners with a free slot, the one idle longest first.
    free: BTreeSet<(Moment, RunnerId)>,
    /// The first job of every strand in which jobs wait.
    heads: BTreeSet<((Moment, i64), StrandId)>,
    /// Strands whose reason may be another than was said.
    unsure: BTreeSet<StrandId>,
}

impl State {
    /// Takes note of an event.
    pub fn apply(&mut self, event: Event, now: Moment) {
        match event {
            Event::Strand { id, key, project } => self.strand(id, key, project),
            Event::Waits {
                job,
                strand,
                ready,
                number,
                avoid,
            } => {
                self.withdraw(job);
                if self.strands.contains_key(&strand) {
                    self.waiting.insert(
                        job,
                        Waiting {
                            strand,
                            place: (ready, number),
                            avoid,
                        },
                    );
                    self.change_queue(strand, |queue| {
                        queue.insert((ready, number), job);
                    });
                }
            }
            Event::Withdrawn { job } => self.withdraw(job),
            Event::Runner(view) => self.runner(*view, now),
            Event::RunnerGone { id } => {
                if let Some(gone) = self.runners.remove(&id) {
                    self.free.remove(&(gone.idle_since, id));
                    for attempt in gone.holds {
                        self.holders.remove(&attempt);
                    }
                    for wanted in self.wanted.values_mut() {
                        wanted.admitted.remove(&id);
                    }
                    self.yard_changed();
                }
            }
            Event::Pool(view) => self.pool(view),
            Event::Holds {
                attempt,
                job,
                runner,
            } => {
                self.withdraw(job);
                self.hold(attempt, runner);
            }
            Event::Released { attempt } | Event::Refused { attempt } => self.release(attempt, now),
        }
    }

    /// Assigns as many waiting jobs as there are free slots for, in order, and says what the reasons of the others
    /// now are. What it assigns it counts as held at once. `fresh` gives the id of each new attempt.
    pub fn plan(&mut self, now: Moment, fresh: &mut dyn FnMut() -> AttemptId) -> Plan {
        let mut plan = Plan::default();
        let mut after = None;
        // Strands are looked at by their first job. One that found no runner is passed for good: slots only get
        // fewer while the plan is made. `after` is where the walk stands.
        while !self.free.is_empty() {
            let head = match after {
                None => self.heads.first(),
                Some(at) => self
                    .heads
                    .range((std::ops::Bound::Excluded(at), std::ops::Bound::Unbounded))
                    .next(),
            };
            let Some(&(place, strand)) = head else { break };
            match self.assign_head(strand, fresh) {
                Some(assignment) => plan.assignments.push(assignment),
                None => after = Some((place, strand)),
            }
        }
        for strand in std::mem::take(&mut self.unsure) {
            if let Some(change) = self.reason_change(strand) {
                plan.reasons.push(change);
            }
        }
        debug_assert!(
            plan.assignments
                .iter()
                .all(|a| self.holders.contains_key(&a.attempt)),
            "at {now}"
        );
        plan
    }

    /// How many jobs wait for a runner.
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// How many slots the runners that take work have, and how many of them are free.
    pub fn slots(&self) -> (u64, u64) {
        let takes = self
            .runners
            .values()
            .filter(|runner| runner.view.willingness() == Willingness::Takes);
        takes.fold((0, 0), |(all, free), runner| {
            let slots = u64::from(runner.view.slots);
            (
                all + slots,
                free + slots.saturating_sub(runner.holds.len() as u64),
            )
        })
    }

    /// How many slots are in use, on whatever runner.
    pub fn used(&self) -> usize {
        self.holders.len()
    }

    /// The runner as last told, if it is known.
    pub fn runner_view(&self, id: RunnerId) -> Option<&RunnerView> {
        self.runners.get(&id).map(|runner| &runner.view)
    }

    /// Every runner as last told.
    pub fn runner_views(&self) -> impl Iterator<Item = &RunnerView> {
        self.runners.values().map(|runner| &runner.view)
    }

    /// Whether the strand was told.
    pub fn knows_strand(&self, id: StrandId) -> bool {
        self.strands.contains_key(&id)
    }

    /// How a strand stands in the yard.
    pub fn standing(&self, strand: StrandId) -> Option<Standing> {
        let strand = self.strands.get(&strand)?;
        let wanted = self.wanted.get(&strand.key.requirement)?;
        let mut standing = Standing::default();
        for runner in wanted.admitted.iter().filter_map(|id| self.runners.get(id)) {
            let reached = self
                .pools
                .get(&runner.view.pool)
                .is_some_and(|pool| pool.reaches(&strand.project));
            standing.count(reached, runner.view.willingness());
        }
        Some(standing)
    }

    fn strand(&mut self, id: StrandId, key: StrandKey, project: String) {
        if !self.wanted.contains_key(&key.requirement) {
            // A stored requirement was parsed before it was stored; one that no longer parses admits nobody.
            let wanted = key
                .requirement
                .parse::<Requirement>()
                .ok()
                .map(|requirement| {
                    let runners = self.runners.values();
                    let admitted = runners
                        .filter(|r| admits(&self.pools, &requirement, &r.view))
                        .map(|r| r.view.id);
                    Wanted {
                        admitted: admitted.collect(),
                        requirement,
                    }
                });
            self.wanted
                .extend(wanted.map(|wanted| (key.requirement.clone(), wanted)));
        }
        match self.strands.get_mut(&id) {
            Some(known) => known.project = project,
            None => {
                self.strands.insert(
                    id,
                    Strand {
                        key,
                        project,
                        queue: BTreeMap::new(),
                        said: Vec::new(),
                    },
                );
            }
        }
        self.unsure.insert(id);
    }

    fn runner(&mut self, view: RunnerView, now: Moment) {
        let id = view.id;
        let known = self.runners.remove(&id);
        let moved = known
            .as_ref()
            .is_none_or(|known| known.view.subject != view.subject || known.view.pool != view.pool);
        let changed = moved
            || known
                .as_ref()
                .is_some_and(|known| known.view.willingness() != view.willingness());
        if moved {
            for wanted in self.wanted.values_mut() {
                if admits(&self.pools, &wanted.requirement, &view) {
                    wanted.admitted.insert(id);
                } else {
                    wanted.admitted.remove(&id);
                }
            }
        }
        let (holds, idle_since) = known.map_or((HashSet::new(), now), |known| {
            (known.holds, known.idle_since)
        });
        self.free.remove(&(idle_since, id));
        let runner = Runner {
            view,
            holds,
            idle_since,
        };
        if runner.free() {
            self.free.insert((idle_since, id));
        }
        self.runners.insert(id, runner);
        if changed {
            self.yard_changed();
        }
    }

    fn pool(&mut self, view: PoolView) {
        let id = view.id;
        if self.pools.insert(id, view.clone()).as_ref() == Some(&view) {
            return;
        }
        let members: Vec<&RunnerView> = self
            .runners
            .values()
            .map(|r| &r.view)
            .filter(|r| r.pool == id)
            .collect();
        for wanted in self.wanted.values_mut() {
            for member in &members {
                if view.admits(&wanted.requirement, &member.subject) {
                    wanted.admitted.insert(member.id);
                } else {
                    wanted.admitted.remove(&member.id);
                }
            }
        }
        self.yard_changed();
    }

    fn yard_changed(&mut self) {
        self.unsure
            .extend(self.heads.iter().map(|(_, strand)| *strand));
    }

    fn hold(&mut self, attempt: AttemptId, id: RunnerId) {
        if let Some(runner) = self.runners.get_mut(&id) {
            runner.holds.insert(attempt);
            self.holders.insert(attempt, id);
            if !runner.free() {
                self.free.remove(&(runner.idle_since, id));
            }
        }
    }

    fn release(&mut self, attempt: AttemptId, now: Moment) {
        let Some(id) = self.holders.remove(&attempt) else {
            return;
        };
        if let Some(runner) = self.runners.get_mut(&id) {
            runner.holds.remove(&attempt);
            self.free.remove(&(runner.idle_since, id));
            runner.idle_since = now;
            if runner.free() {
                self.free.insert((now, id));
            }
        }
    }

    fn withdraw(&mut self, job: JobId) {
        if let Some(gone) = self.waiting.remove(&job) {
            self.change_queue(gone.strand, |queue| {
                queue.remove(&gone.place);
            });
        }
    }

    /// Changes a strand's queue and keeps `heads` in step with it.
    fn change_queue(
        &mut self,
        id: StrandId,
        change: impl FnOnce(&mut BTreeMap<(Moment, i64), JobId>),
    ) {
        let Some(strand) = self.strands.get_mut(&id) else {
            return;
        };
        let before = strand.queue.first_key_value().map(|(place, _)| *place);
        change(&mut strand.queue);
        let after = strand.queue.first_key_value().map(|(place, _)| *place);
        if before != after {
            if let Some(place) = before {
                self.heads.remove(&(place, id));
            }
            if let Some(place) = after {
                self.heads.insert((place, id));
            }
            self.unsure.insert(id);
        }
    }

    fn assign_head(
        &mut self,
        id: StrandId,
        fresh: &mut dyn FnMut() -> AttemptId,
    ) -> Option<Assignment> {
        let strand = self.strands.get(&id)?;
        let job = *strand.queue.first_key_value()?.1;
        let avoid = self.waiting.get(&job).and_then(|waiting| waiting.avoid);
        let wanted = self.wanted.get(&strand.key.requirement)?;
        let mut second = None;
        let mut chosen = None;
        for (_, candidate) in &self.free {
            let fits = wanted.admitted.contains(candidate)
                && self
                    .runners
                    .get(candidate)
                    .and_then(|runner| self.pools.get(&runner.view.pool))
                    .is_some_and(|pool| pool.reaches(&strand.project));
            if !fits {
                continue;
            }
            if avoid == Some(*candidate) {
                second = Some(*candidate);
            } else {
                chosen = Some(*candidate);
                break;
            }
        }
        let runner = chosen.or(second)?;
        let pool = self.runners.get(&runner)?.view.pool;
        let attempt = fresh();
        self.withdraw(job);
        self.hold(attempt, runner);
        Some(Assignment {
            attempt,
            job,
            runner,
            pool,
            strand: id,
        })
    }

    fn reason_change(&mut self, id: StrandId) -> Option<ReasonChange> {
        let waits = !self.strands.get(&id)?.queue.is_empty();
        let segments = if waits {
            let reason = self
                .standing(id)
                .map_or(Reason::NoMatch, |standing| standing.reason());
            vec![Segment { reason, jobs: None }]
        } else {
            Vec::new()
        };
        let strand = self.strands.get_mut(&id)?;
        if strand.said == segments {
            return None;
        }
        strand.said.clone_from(&segments);
        Some(ReasonChange {
            strand: id,
            segments,
        })
    }

    /// Takes over what was said of a strand before this state was built, so that it is not said again.
    pub fn said_before(&mut self, id: StrandId, segments: Vec<Segment>) {
        if let Some(strand) = self.strands.get_mut(&id) {
            strand.said = segments;
            self.unsure.insert(id);
        }
    }
}

fn admits(pools: &HashMap<PoolId, PoolView>, requirement: &Requirement, view: &RunnerView) -> bool {
    pools
        .get(&view.pool)
        .is_some_and(|pool| pool.admits(requirement, &view.subject))
}
