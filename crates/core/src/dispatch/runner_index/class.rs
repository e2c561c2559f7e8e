//! Runners in their classes, as they come, change, take and free slots, and go.

use super::{Class, Runner, RunnerIndex, RunnerProfile, put, signature};
use crate::dispatch::yard::{Availability, PoolView, RunnerView};
use crate::fact::Subject;
use crate::id::{AttemptId, PoolId, RunnerId};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashSet;
use std::collections::BTreeSet;

impl RunnerIndex {
    pub(super) fn likeness_of(&mut self, subject: &Subject) -> usize {
        let subject = subject.without(&["runner", "host"]);
        if let Some(known) = self.by_subject.get(&subject).copied() {
            if let Some(likeness) = self.likenesses.get_mut(known) {
                likeness.members += 1;
            }
            return known;
        }
        let mut satisfied = FixedBitSet::with_capacity(self.wanted.len());
        for (at, wanted) in self.wanted.iter().enumerate() {
            if !wanted.individual && wanted.requirement.satisfied_by(&subject) {
                satisfied.insert(at);
            }
        }
        let at = self.likenesses.insert(RunnerProfile {
            subject: subject.clone(),
            satisfied,
            members: 1,
        });
        self.by_subject.insert(subject, at);
        at
    }

    /// A runner is not like this any more.
    fn leave_profile(&mut self, at: usize) {
        let Some(likeness) = self.likenesses.get_mut(at) else {
            return;
        };
        likeness.members = likeness.members.saturating_sub(1);
        if likeness.members == 0 {
            let gone = self.likenesses.remove(at);
            self.by_subject.remove(&gone.subject);
        }
    }

    /// A class has gained or lost its only runner.
    fn note_presence(&mut self, class: usize) {
        let members = |class: &Class| class.takes + class.paused + class.offline;
        if self
            .classes
            .get(class)
            .is_some_and(|class| members(class) <= 1)
        {
            self.is_unranked = true;
            self.version += 1;
        }
    }

    pub(super) fn class_of(&mut self, pool: PoolId, future: bool, satisfied: FixedBitSet) -> usize {
        let key = (pool, future, signature(&satisfied));
        if let Some(known) = self.by_signature.get(&key) {
            return *known;
        }
        let at = self.classes.len();
        self.by_signature.insert(key, at);
        let mut kinds = FixedBitSet::new();
        for (number, kind) in self.kinds.iter_mut().enumerate() {
            let in_reach = self
                .reaches
                .get(kind.reach)
                .is_some_and(|reach| reach.pools.contains(&pool));
            if in_reach && satisfied.contains(kind.requirement) {
                put(&mut kinds, number, true);
                kind.classes.push(at);
            }
        }
        self.classes.push(Class {
            pool,
            satisfied,
            kinds,
            future,
            coming: 0,
            takes: 0,
            paused: 0,
            offline: 0,
            slots: 0,
            free_slots: 0,
            free: BTreeSet::new(),
        });
        self.is_ungrouped |= future;
        self.is_unranked = true;
        self.version += 1;
        at
    }

    /// Takes a runner out of its class, or puts it there.
    pub(super) fn count(&mut self, id: RunnerId, present: bool) {
        let Some(runner) = self.runners.get(&id) else {
            return;
        };
        let willingness = self.willingness(&runner.view);
        let Some(class) = self.classes.get_mut(runner.class) else {
            return;
        };
        let change = |count: &mut u32, by: u32| {
            *count = if present {
                *count + by
            } else {
                count.saturating_sub(by)
            };
        };
        match willingness {
            Availability::Takes => {
                let held = u32::try_from(runner.holds.len()).unwrap_or(u32::MAX);
                let free = runner.view.slots.saturating_sub(held);
                change(&mut class.takes, 1);
                change(&mut class.slots, runner.view.slots);
                let had_room = class.free_slots > 0;
                change(&mut class.free_slots, free);
                let has_room = class.free_slots > 0;
                if had_room != has_room {
                    for kind in class.kinds.ones() {
                        if let Some(kind) = self.kinds.get_mut(kind) {
                            kind.has_room = match has_room {
                                true => kind.has_room + 1,
                                false => kind.has_room.saturating_sub(1),
                            };
                        }
                    }
                }
                if present && free > 0 {
                    class.free.insert((runner.idle_since, id));
                } else {
                    class.free.remove(&(runner.idle_since, id));
                }
            }
            Availability::Paused => change(&mut class.paused, 1),
            Availability::Offline => change(&mut class.offline, 1),
        }
    }

    /// Puts a runner into the class in which it belongs by now.
    pub(super) fn place_runner(&mut self, id: RunnerId) {
        let Some(runner) = self.runners.get(&id) else {
            return;
        };
        let Some(pool) = self.pools.get(&runner.view.pool) else {
            return;
        };
        let satisfied = self.satisfied(runner.likeness, &runner.view.subject, pool);
        if self
            .classes
            .get(runner.class)
            .is_some_and(|class| class.pool == pool.id && class.satisfied == satisfied)
        {
            return;
        }
        let pool = pool.id;
        let class = self.class_of(pool, false, satisfied);
        self.count(id, false);
        if let Some(runner) = self.runners.get_mut(&id) {
            runner.class = class;
        }
        self.count(id, true);
    }

    /// A runner is like this. Its class now, and before.
    pub fn runner(&mut self, view: RunnerView, now: Moment) -> [Option<usize>; 2] {
        let id = view.id;
        self.count(id, false);
        let (mut holds, mut idle_since, mut before) = (FxHashSet::default(), now, None);
        let mut changed_in = 0;
        let likeness = self.likeness_of(&view.subject);
        if let Some(known) = self.runners.remove(&id) {
            // Time in which it could not take work was not idle.
            let takes = |view| self.willingness(view) == Availability::Takes;
            let came = takes(&view) && !takes(&known.view);
            if !came && (known.view.slots > 0 || view.slots == 0) {
                idle_since = known.idle_since;
            }
            (holds, before) = (known.holds, Some(known.class));
            changed_in = known.changed_in;
            self.leave_profile(known.likeness);
        }
        let class = self.pools.get(&view.pool).map(|pool| {
            let satisfied = self.satisfied(likeness, &view.subject, pool);
            (pool.id, satisfied)
        });
        // A runner whose pool was not told yet is in no class; the pool's coming puts it into one.
        let class = class.map_or(usize::MAX, |(pool, satisfied)| {
            self.class_of(pool, false, satisfied)
        });
        self.runners.insert(
            id,
            Runner {
                view,
                holds,
                idle_since,
                likeness,
                class,
                changed_in,
            },
        );
        self.count(id, true);
        self.note_changed(id);
        if before != Some(class) {
            self.note_presence(class);
            before
                .into_iter()
                .for_each(|class| self.note_presence(class));
        }
        [Some(class), before]
    }

    /// Removes a runner. Returns it, for its attempts.
    pub fn runner_gone(&mut self, id: RunnerId) -> Option<Runner> {
        self.count(id, false);
        let gone = self.runners.remove(&id)?;
        self.changed.push(id);
        self.leave_profile(gone.likeness);
        self.note_presence(gone.class);
        Some(gone)
    }

    /// An attempt takes a slot of a runner, or gives it back.
    pub fn hold(&mut self, id: RunnerId, attempt: AttemptId) {
        self.count(id, false);
        let asked = self.asked + 1;
        if let Some(runner) = self.runners.get_mut(&id) {
            runner.holds.insert(attempt);
            if std::mem::replace(&mut runner.changed_in, asked) != asked {
                self.changed.push(id);
            }
        }
        self.count(id, true);
    }

    /// The class whose slot an attempt releases.
    pub fn release(&mut self, id: RunnerId, attempt: AttemptId, now: Moment) -> Option<usize> {
        self.count(id, false);
        let asked = self.asked + 1;
        let class = self.runners.get_mut(&id).map(|runner| {
            runner.holds.remove(&attempt);
            runner.idle_since = now;
            if std::mem::replace(&mut runner.changed_in, asked) != asked {
                self.changed.push(id);
            }
            runner.class
        });
        self.count(id, true);
        class
    }

    /// A pool is like this. Whether kinds and classes have to be recomputed.
    pub fn pool(&mut self, view: PoolView) -> bool {
        let id = view.id;
        let known = self.pools.get(&id);
        if known == Some(&view) {
            return false;
        }
        let is_alike = known.is_some_and(|known| known.same_for_classes(&view));
        let makes_alike = known.is_some_and(|known| known.makes == view.makes);
        let costs_alike = known.is_some_and(|known| known.price == view.price);
        let members: Vec<RunnerId> = if known.is_none_or(|known| known.paused != view.paused) {
            self.runners
                .values()
                .filter(|runner| runner.view.pool == id)
                .map(|runner| runner.view.id)
                .collect()
        } else {
            Vec::new()
        };
        for member in &members {
            self.count(*member, false);
        }
        let coming = view.coming;
        self.pools.insert(id, view);
        for member in &members {
            self.count(*member, true);
            self.note_changed(*member);
        }
        if is_alike && makes_alike {
            let future = self.futures.get(&id).copied();
            if let Some(class) = future.and_then(|at| self.classes.get_mut(at)) {
                class.coming = coming;
            }
        } else if is_alike {
            self.place_future(id);
        }
        if is_alike && !costs_alike {
            self.version += 1;
        }
        !is_alike
    }

    /// Applies a capacity decision about a pool. Returns the class of its future machines if reasons may change.
    pub fn set_supply(
        &mut self,
        id: PoolId,
        coming: u32,
        short: Option<&str>,
        full: Option<u32>,
    ) -> Option<usize> {
        let pool = self.pools.get_mut(&id)?;
        if (pool.coming, pool.short.as_deref(), pool.full) == (coming, short, full) {
            return None;
        }
        let says_otherwise = pool.short.is_some() != short.is_some() || pool.full != full;
        pool.coming = coming;
        pool.short = short.map(str::to_owned);
        pool.full = full;
        let future = self.futures.get(&id).copied()?;
        if let Some(class) = self.classes.get_mut(future) {
            class.coming = coming;
        }
        says_otherwise.then_some(future)
    }

    /// Works out the class of the machines that a pool would make, if it makes any.
    pub(super) fn place_future(&mut self, id: PoolId) {
        let Some(pool) = self.pools.get(&id) else {
            return;
        };
        let coming = pool.coming;
        let made = pool.makes.as_ref().map(|subject| {
            let mut satisfied = FixedBitSet::with_capacity(self.wanted.len());
            for (at, wanted) in self.wanted.iter().enumerate() {
                put(
                    &mut satisfied,
                    at,
                    pool.admits(&wanted.requirement, subject),
                );
            }
            satisfied
        });
        self.is_ungrouped = true;
        self.is_unranked = true;
        self.version += 1;
        let before = self.futures.remove(&id);
        if let Some(class) = before.and_then(|at| self.classes.get_mut(at)) {
            class.coming = 0;
            class.future = false;
        }
        if let Some(satisfied) = made {
            let at = self.class_of(id, true, satisfied);
            if let Some(class) = self.classes.get_mut(at) {
                class.coming = coming;
                class.future = true;
            }
            self.futures.insert(id, at);
        }
    }
}
