//! Runners and requirements, class against class.
//!
//! Runners that satisfy the same requirements in the same pool form a *class*; jobs with the same requirement, reach and
//! seats form a *kind*. Which kind may use which class is worked out once, when either appears, so that the cost of a
//! plan follows the number of kinds and classes, not of jobs and runners. A pool that can make machines has one more
//! class, of the machines that it would make.

mod class;
mod demands;
mod rank;

use super::inconsistency::Problem;
use super::yard::{Availability, Origin, PoolView, RunnerView, SeatNeeds};
use crate::fact::Subject;
use crate::id::{AttemptId, PoolId, RunnerId};
use crate::requirement::Requirement;
use crate::time::Moment;
use crate::trust::Trust;
use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};
use slab::Slab;
use std::collections::{BTreeMap, BTreeSet};

/// Like runners of one pool, or the machines that the pool would make.
pub(super) struct Class {
    pub pool: PoolId,
    /// The requirements that it satisfies, its pool's openness included.
    pub satisfied: FixedBitSet,
    /// The kinds that may use it: they are satisfied, and the pool is in their reach.
    pub kinds: FixedBitSet,
    /// Whether these are machines that the pool would make.
    pub future: bool,
    /// Slots of machines that are being made; of future classes only.
    pub coming: u32,
    pub takes: u32,
    pub paused: u32,
    pub offline: u32,
    /// Slots of the runners that take work.
    pub slots: u32,
    pub free_slots: u32,
    /// Runners with a free slot, the one idle longest first.
    pub free: BTreeSet<(Moment, RunnerId)>,
}

/// Jobs that are alike in what they may use.
pub(super) struct JobKind {
    pub requirement: usize,
    pub reach: usize,
    pub seats: SeatNeeds,
    /// The classes that it may use, in the order in which they are best given: the least wanted ability first, then
    /// the cheapest.
    pub classes: Vec<usize>,
    pub sorted: u64,
    pub strands: BTreeSet<usize>,
    /// Jobs of it that wait.
    pub waiting: u32,
    /// How many of its classes have a free slot.
    pub has_room: u32,
    /// Of which demand it is, as of the last grouping; none when no future machine could run it.
    demand: Option<usize>,
}

/// The pools that jobs from somewhere may use.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub(super) struct ReachedPools {
    pub pools: BTreeSet<PoolId>,
    /// The ones that they could use if their project's use were approved.
    pub awaiting_approval: BTreeSet<PoolId>,
}

/// Jobs that wait and that the same future machines could run.
#[derive(Debug)]
pub(super) struct Demand {
    /// The classes of those machines, in ascending order.
    pub futures: Vec<usize>,
    pub waiting: u32,
    /// Those among them that need seats.
    pub seated: u32,
}

/// The most kinds without strands that are kept.
const MOST_UNUSED_KINDS: usize = 500;

pub(super) struct RequirementUse {
    pub requirement: Requirement,
    /// Whether it asks for one runner or host by name, so that like runners are not alike to it.
    individual: bool,
    /// Jobs that ask for it and wait or run.
    in_use: u64,
}

/// A subject without what tells one runner from its like, and what it satisfies.
struct RunnerProfile {
    subject: Subject,
    satisfied: FixedBitSet,
    /// Runners that are so.
    members: usize,
}

pub(super) struct Runner {
    pub view: RunnerView,
    pub holds: FxHashSet<AttemptId>,
    pub idle_since: Moment,
    likeness: usize,
    pub class: usize,
    /// When it was last noted that its load has changed: the count of questions for that, then.
    changed_in: u64,
}

#[derive(Default)]
pub(super) struct RunnerIndex {
    pub pools: BTreeMap<PoolId, PoolView>,
    pub runners: BTreeMap<RunnerId, Runner>,
    pub wanted: Vec<RequirementUse>,
    by_text: FxHashMap<String, usize>,
    likenesses: Slab<RunnerProfile>,
    by_subject: FxHashMap<Subject, usize>,
    pub classes: Vec<Class>,
    by_signature: FxHashMap<(PoolId, bool, Vec<usize>), usize>,
    futures: FxHashMap<PoolId, usize>,
    reaches: Vec<ReachedPools>,
    by_pools: FxHashMap<ReachedPools, usize>,
    by_origin: FxHashMap<(String, Trust, BTreeSet<PoolId>), usize>,
    pub kinds: Vec<JobKind>,
    by_kind: FxHashMap<(usize, usize, SeatNeeds), usize>,
    /// Counts the changes of classes and prices, so that what was sorted before is known to be stale.
    version: u64,
    potentials: Vec<u64>,
    /// What each requirement adds to the potential of a class that satisfies it, while jobs ask for it.
    shares: Vec<u64>,
    /// Whether potentials have to be recomputed.
    is_unranked: bool,
    /// Kinds that no strand is of.
    unused_kinds: usize,
    /// The first thing found that cannot be so.
    broken: Option<Problem>,
    demands: Vec<Demand>,
    /// Jobs that wait and that some future machine could run.
    demanded: u64,
    /// Whether the demands have to be grouped again.
    is_ungrouped: bool,
    /// Runners whose load may have changed since that was last asked, and how often it was asked.
    changed: Vec<RunnerId>,
    asked: u64,
}

/// The words of a bit set without the empty ones at its end: equal for equal sets.
fn signature(set: &FixedBitSet) -> Vec<usize> {
    let words = set.as_slice();
    let length = words
        .iter()
        .rposition(|word| *word != 0)
        .map_or(0, |last| last + 1);
    words.get(..length).unwrap_or_default().to_vec()
}

fn put(set: &mut FixedBitSet, at: usize, value: bool) {
    if value {
        set.grow(at + 1);
        set.insert(at);
    } else if at < set.len() {
        set.set(at, false);
    }
}

impl RunnerIndex {
    pub fn class(&self, at: usize) -> Option<&Class> {
        self.classes.get(at)
    }

    /// Whether a pool satisfies a kind's jobs but for the approval of their project.
    pub fn awaits_approval(&self, kind: &JobKind, pool: PoolId) -> bool {
        let reach = self.reaches.get(kind.reach);
        reach.is_some_and(|reach| reach.awaiting_approval.contains(&pool))
    }

    pub fn kind(&self, at: usize) -> Option<&JobKind> {
        self.kinds.get(at)
    }

    /// Whether a runner takes work, its pool minded.
    pub fn willingness(&self, view: &RunnerView) -> Availability {
        self.pools
            .get(&view.pool)
            .map_or_else(|| view.willingness(), |pool| pool.willingness(view))
    }

    // Kinds.

    /// The kind of jobs from there that ask for this. None when the requirement cannot be read,
    /// which it could when it was submitted.
    pub fn kind_of(&mut self, text: &str, origin: Origin<'_>, seats: &SeatNeeds) -> Option<usize> {
        let requirement = self.wanted_of(text)?;
        let reach = self.reach_of(origin);
        let key = (requirement, reach, seats.clone());
        if let Some(known) = self.by_kind.get(&key) {
            return Some(*known);
        }
        let kind = self.kinds.len();
        self.by_kind.insert(key, kind);
        let mut classes = Vec::new();
        let mut has_room = 0;
        let pools = self.reaches.get(reach).map(|reach| &reach.pools);
        for (at, class) in self.classes.iter_mut().enumerate() {
            if class.satisfied.contains(requirement)
                && pools.is_some_and(|pools| pools.contains(&class.pool))
            {
                put(&mut class.kinds, kind, true);
                classes.push(at);
                has_room += u32::from(class.free_slots > 0);
            }
        }
        self.kinds.push(JobKind {
            requirement,
            reach,
            seats: seats.clone(),
            classes,
            sorted: 0,
            strands: BTreeSet::new(),
            waiting: 0,
            has_room,
            demand: None,
        });
        self.is_ungrouped = true;
        Some(kind)
    }

    fn reach_of(&mut self, origin: Origin<'_>) -> usize {
        let key = (
            origin.project.to_owned(),
            origin.trust,
            origin.approved_in.clone(),
        );
        if let Some(known) = self.by_origin.get(&key) {
            return *known;
        }
        let pools = |is_one: &dyn Fn(&PoolView) -> bool| -> BTreeSet<PoolId> {
            let found = self.pools.values().filter(|pool| is_one(pool));
            found.map(|pool| pool.id).collect()
        };
        let found = ReachedPools {
            pools: pools(&|pool| pool.reaches(origin)),
            awaiting_approval: pools(&|pool| pool.lacks_approval(origin)),
        };
        let reach = *self.by_pools.entry(found.clone()).or_insert_with(|| {
            self.reaches.push(found);
            self.reaches.len() - 1
        });
        self.by_origin.insert(key, reach);
        reach
    }

    fn wanted_of(&mut self, text: &str) -> Option<usize> {
        if let Some(known) = self.by_text.get(text) {
            return Some(*known);
        }
        let requirement: Requirement = text.parse().ok()?;
        let at = self.wanted.len();
        let individual = requirement.names(&["runner", "host"]);
        for (_, likeness) in &mut self.likenesses {
            let holds = !individual && requirement.satisfied_by(&likeness.subject);
            put(&mut likeness.satisfied, at, holds);
        }
        self.wanted.push(RequirementUse {
            requirement,
            individual,
            in_use: 0,
        });
        self.by_text.insert(text.to_owned(), at);
        self.learn(at);
        let pools: Vec<PoolId> = self.futures.keys().copied().collect();
        for id in pools {
            self.place_future(id);
        }
        Some(at)
    }

    /// Tells the classes of a requirement that is new. Those whose members differ in it fall apart.
    fn learn(&mut self, wanted: usize) {
        let Some(known) = self.wanted.get(wanted) else {
            return;
        };
        let holds = |runner: &Runner| {
            let view = &runner.view;
            if known.individual {
                known.requirement.satisfied_by(&view.subject)
            } else if known.requirement.is_any() {
                self.pools.get(&view.pool).is_some_and(|pool| pool.open)
            } else {
                self.likenesses
                    .get(runner.likeness)
                    .is_some_and(|likeness| likeness.satisfied.contains(wanted))
            }
        };
        let mut members = vec![0u32; self.classes.len()];
        let mut holding: Vec<Vec<RunnerId>> = vec![Vec::new(); self.classes.len()];
        for (id, runner) in &self.runners {
            if let (Some(count), Some(found)) =
                (members.get_mut(runner.class), holding.get_mut(runner.class))
            {
                *count += 1;
                if holds(runner) {
                    found.push(*id);
                }
            }
        }
        for (at, (members, holding)) in members.into_iter().zip(holding).enumerate() {
            if holding.is_empty() {
                continue;
            }
            let Some(class) = self.classes.get_mut(at) else {
                continue;
            };
            let (pool, mut satisfied) = (class.pool, class.satisfied.clone());
            put(&mut satisfied, wanted, true);
            if members as usize == holding.len() {
                self.by_signature
                    .remove(&(pool, false, signature(&class.satisfied)));
                self.by_signature
                    .insert((pool, false, signature(&satisfied)), at);
                class.satisfied = satisfied;
                continue;
            }
            let apart = self.class_of(pool, false, satisfied);
            for id in holding {
                self.count(id, false);
                if let Some(runner) = self.runners.get_mut(&id) {
                    runner.class = apart;
                }
                self.count(id, true);
            }
        }
        self.is_unranked = true;
        self.version += 1;
    }

    // Runners.

    /// What a subject satisfies in a pool.
    fn satisfied(&self, likeness: usize, subject: &Subject, pool: &PoolView) -> FixedBitSet {
        let mut satisfied = self
            .likenesses
            .get(likeness)
            .map(|likeness| likeness.satisfied.clone())
            .unwrap_or_default();
        for (at, wanted) in self.wanted.iter().enumerate() {
            if wanted.individual {
                put(&mut satisfied, at, wanted.requirement.satisfied_by(subject));
            } else if wanted.requirement.is_any() {
                put(&mut satisfied, at, pool.open);
            }
        }
        satisfied
    }

    // Pools.

    /// Works out classes and kinds again. What was known of kinds is lost; the strands are to ask for theirs again.
    pub fn rebuild_index(&mut self) {
        self.forget_requirements();
        self.classes.clear();
        self.by_signature.clear();
        self.futures.clear();
        self.reaches.clear();
        self.by_pools.clear();
        self.by_origin.clear();
        self.kinds.clear();
        self.by_kind.clear();
        self.demands.clear();
        self.demanded = 0;
        self.is_ungrouped = true;
        self.is_unranked = true;
        self.unused_kinds = 0;
        self.version += 1;
        let ids: Vec<RunnerId> = self.runners.keys().copied().collect();
        for id in ids {
            if let Some(runner) = self.runners.get_mut(&id) {
                runner.class = usize::MAX;
            }
            self.place_runner(id);
        }
        let pools: Vec<PoolId> = self.pools.keys().copied().collect();
        for id in pools {
            self.place_future(id);
        }
    }

    /// Forgets requirements that no strand asks for any more.
    fn forget_requirements(&mut self) {
        let kinds = self.kinds.iter().filter(|kind| !kind.strands.is_empty());
        let used: BTreeSet<usize> = kinds.map(|kind| kind.requirement).collect();
        let moved: FxHashMap<usize, usize> = used
            .iter()
            .enumerate()
            .map(|(to, from)| (*from, to))
            .collect();
        let mut at = 0;
        self.wanted.retain_mut(|wanted| {
            // The strands say again how many of their jobs wait and run.
            wanted.in_use = 0;
            at += 1;
            used.contains(&(at - 1))
        });
        self.by_text.retain(|_, at| match moved.get(at) {
            Some(to) => {
                *at = *to;
                true
            }
            None => false,
        });
        for (_, likeness) in &mut self.likenesses {
            let before = std::mem::take(&mut likeness.satisfied);
            likeness.satisfied = before
                .ones()
                .filter_map(|at| moved.get(&at).copied())
                .collect();
        }
    }

    /// The class of the machines that each pool would make.
    pub fn futures(&self) -> &FxHashMap<PoolId, usize> {
        &self.futures
    }

    // Loads.

    /// The runners whose load may have changed since this was last asked.
    pub fn take_changed(&mut self) -> Vec<RunnerId> {
        self.asked += 1;
        std::mem::take(&mut self.changed)
    }

    pub fn note_changed(&mut self, id: RunnerId) {
        let asked = self.asked + 1;
        if let Some(runner) = self.runners.get_mut(&id)
            && std::mem::replace(&mut runner.changed_in, asked) != asked
        {
            self.changed.push(id);
        }
    }

    /// Classes at all, of whichever reach, that satisfy a kind's requirement.
    pub fn satisfying(&self, kind: &JobKind) -> impl Iterator<Item = &Class> {
        let requirement = kind.requirement;
        self.classes
            .iter()
            .filter(move |class| class.satisfied.contains(requirement))
    }
}
