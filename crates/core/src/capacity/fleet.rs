//! The machines that exist, by what each is good for.
//!
//! The counts are kept up to date machine by machine, when something about one of them changes or its time runs out, so
//! that a decision costs the same beside ten machines and beside ten thousand.

use super::decided::Numbers;
use super::event::{MachineView, ManagedPool, SupplierView};
use crate::dispatch::{Availability, RunnerLoad, State};
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::{Moment, spoken};
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

/// A machine whose runner is away for longer than this is given up.
const AWAY: Duration = Duration::from_secs(120);
/// The shortest length of time: what is due after a limit is due this long after it.
const TICK: Duration = Duration::from_micros(1);

/// What a machine is good for.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Use {
    /// Ordered or booting.
    Coming,
    /// Without a job since then.
    Idle { since: Moment },
    /// With a job, and would take another after it.
    Busy,
    /// Used up, told to leave, away, or held by a person.
    Leaving,
    /// The supplier is being told to remove it.
    Releasing,
    /// It has nothing more to do here, and is to be released.
    Retired { reason: String, failed: bool },
}

/// One machine.
#[derive(Clone, Debug)]
struct Tracked {
    view: MachineView,
    used_for: Use,
    /// Whether its runner has left permanently.
    left: bool,
    /// Since when its runner is away, where it had connected before.
    away_since: Option<Moment>,
    /// When it has to be looked at again though nothing happens.
    due: Option<Moment>,
    /// Whether its runner is connected although the record does not say yet that the machine has joined.
    connected_early: bool,
}

/// The machines of one pool, counted.
#[derive(Clone, Debug, Default)]
pub(super) struct Tally {
    pub(super) numbers: Numbers,
    /// Those without a job, and since when.
    pub(super) idle: BTreeSet<(Moment, MachineId)>,
    /// Those on their way. Ids are in the order in which they were ordered.
    pub(super) coming: BTreeSet<MachineId>,
    /// Those with a job that would take another.
    pub(super) busy: BTreeSet<MachineId>,
    /// Those with nothing more to do here.
    finished: BTreeSet<MachineId>,
}

/// What one supplier has, for all pools.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Load {
    /// Machines that exist.
    pub(super) existing: u32,
    /// Machines that it is being asked for just now.
    pub(super) ordered: u32,
}

/// A machine to release, with the reason.
pub(super) struct RetiredMachine {
    pub(super) machine: MachineId,
    pub(super) pool: PoolId,
    pub(super) supplier: SupplierId,
    pub(super) reason: String,
    /// Whether it never did what it was ordered for.
    pub(super) failed: bool,
}

/// All machines that exist.
#[derive(Clone, Debug, Default)]
pub(super) struct Fleet {
    machines: BTreeMap<MachineId, Tracked>,
    by_runner: FxHashMap<RunnerId, MachineId>,
    tallies: BTreeMap<PoolId, Tally>,
    loads: BTreeMap<SupplierId, Load>,
    /// When machines have to be looked at again though nothing happens.
    due: BTreeSet<(Moment, MachineId)>,
    /// Machines of which something changed since the last decision.
    changed: BTreeSet<MachineId>,
    /// Machines whose runner is connected although the record does not say yet that they have joined.
    connected_early: BTreeSet<MachineId>,
}

fn count(count: &mut u32, present: bool) {
    *count = if present {
        count.saturating_add(1)
    } else {
        count.saturating_sub(1)
    };
}

impl Tally {
    fn count(&mut self, id: MachineId, used_for: &Use, present: bool) {
        fn set<T: Ord>(all: &mut BTreeSet<T>, one: T, present: bool) {
            if present {
                all.insert(one);
            } else {
                all.remove(&one);
            }
        }
        let numbers = &mut self.numbers;
        match used_for {
            Use::Coming => {
                count(&mut numbers.coming, present);
                set(&mut self.coming, id, present);
            }
            Use::Idle { since } => {
                count(&mut numbers.idle, present);
                set(&mut self.idle, (*since, id), present);
            }
            Use::Busy => {
                count(&mut numbers.busy, present);
                set(&mut self.busy, id, present);
            }
            Use::Leaving => count(&mut numbers.leaving, present),
            Use::Releasing => count(&mut numbers.releasing, present),
            Use::Retired { .. } => {
                count(&mut numbers.leaving, present);
                set(&mut self.finished, id, present);
            }
        }
    }
}

impl Fleet {
    pub(super) fn is_empty(&self) -> bool {
        self.machines.is_empty()
    }

    pub(super) fn view(&self, id: MachineId) -> Option<&MachineView> {
        self.machines.get(&id).map(|one| &one.view)
    }

    pub(super) fn views(&self) -> impl Iterator<Item = &MachineView> {
        self.machines.values().map(|one| &one.view)
    }

    /// The machine of a runner.
    pub(super) fn of_runner(&self, runner: RunnerId) -> Option<MachineId> {
        self.by_runner.get(&runner).copied()
    }

    /// Machines whose runner is connected although the record does not say yet that they have joined.
    pub(super) fn connected_early(&self) -> &BTreeSet<MachineId> {
        &self.connected_early
    }

    pub(super) fn tally(&self, pool: PoolId) -> Option<&Tally> {
        self.tallies.get(&pool)
    }

    pub(super) fn load(&self, supplier: SupplierId) -> Load {
        self.loads.get(&supplier).copied().unwrap_or_default()
    }

    /// When a machine has to be looked at again though nothing happens.
    pub(super) fn next_due(&self) -> Option<Moment> {
        self.due.first().map(|(at, _)| *at)
    }

    /// A machine is like this. It counts as coming, leaving or releasing until it is looked at.
    pub(super) fn set(&mut self, view: MachineView) {
        let id = view.id;
        let before = self.remove(id);
        let used_for = match view.state {
            MachineState::Releasing => Use::Releasing,
            state if state.is_coming() => Use::Coming,
            _ => Use::Leaving,
        };
        let tracked = Tracked {
            used_for,
            left: before.as_ref().is_some_and(|before| before.left),
            away_since: before.and_then(|before| before.away_since),
            view,
            due: None,
            connected_early: false,
        };
        self.insert(id, tracked);
        self.changed.insert(id);
    }

    /// The runner of a machine has left permanently.
    pub(super) fn runner_left(&mut self, id: MachineId) {
        if let Some(tracked) = self.machines.get_mut(&id) {
            tracked.left = true;
            self.changed.insert(id);
        }
    }

    /// Removes a machine. Returns it, if it existed.
    pub(super) fn take(&mut self, id: MachineId) -> Option<MachineView> {
        let tracked = self.remove(id)?;
        self.changed.remove(&id);
        if self
            .tallies
            .get(&tracked.view.pool)
            .is_some_and(|tally| tally.numbers.existing() == 0)
        {
            self.tallies.remove(&tracked.view.pool);
        }
        if self.load(tracked.view.supplier).existing == 0 {
            self.loads.remove(&tracked.view.supplier);
        }
        Some(tracked.view)
    }

    /// The policy of a pool, or a supplier's, is another: its machines have to be looked at again.
    pub(super) fn policy_changed(&mut self, of: impl Fn(&MachineView) -> bool) {
        let affected = self.machines.values().filter(|one| of(&one.view));
        self.changed.extend(affected.map(|one| one.view.id));
    }

    /// A machine is being released.
    pub(super) fn release(&mut self, id: MachineId) {
        if let Some(mut tracked) = self.remove(id) {
            tracked.view.state = MachineState::Releasing;
            tracked.used_for = Use::Releasing;
            tracked.away_since = None;
            (tracked.due, tracked.connected_early) = (None, false);
            self.insert(id, tracked);
            self.changed.remove(&id);
        }
    }

    /// Looks again at the machines of which something changed or whose time has run out.
    pub(super) fn refresh(
        &mut self,
        state: &mut State,
        pools: &BTreeMap<PoolId, Arc<ManagedPool>>,
        makers: &BTreeMap<SupplierId, SupplierView>,
        now: Moment,
    ) {
        let loads = state.take_changed_loads();
        if self.machines.is_empty() {
            return;
        }
        for runner in loads {
            if let Some(machine) = self.of_runner(runner) {
                self.changed.insert(machine);
            }
        }
        while let Some((at, machine)) = self.due.first().copied()
            && at <= now
        {
            self.due.remove(&(at, machine));
            self.changed.insert(machine);
        }
        for id in std::mem::take(&mut self.changed) {
            let Some(mut tracked) = self.remove(id) else {
                continue;
            };
            let load = state.load_of(tracked.view.runner);
            let limit = makers
                .get(&tracked.view.supplier)
                .map_or(Duration::MAX, |maker| maker.boot_limit);
            tracked.look(load, pools.contains_key(&tracked.view.pool), limit, now);
            self.insert(id, tracked);
        }
    }

    /// The machines that have nothing more to do here, pool by pool.
    pub(super) fn finished(&self) -> Vec<RetiredMachine> {
        let ids = self.tallies.values().flat_map(|tally| &tally.finished);
        ids.filter_map(|id| self.machines.get(id))
            .filter_map(|one| match &one.used_for {
                Use::Retired { reason, failed } => Some(RetiredMachine {
                    machine: one.view.id,
                    pool: one.view.pool,
                    supplier: one.view.supplier,
                    reason: reason.clone(),
                    failed: *failed,
                }),
                _ => None,
            })
            .collect()
    }

    fn insert(&mut self, id: MachineId, tracked: Tracked) {
        self.count(&tracked, true);
        self.by_runner.insert(tracked.view.runner, id);
        if let Some(due) = tracked.due {
            self.due.insert((due, id));
        }
        if tracked.connected_early {
            self.connected_early.insert(id);
        }
        self.machines.insert(id, tracked);
    }

    fn remove(&mut self, id: MachineId) -> Option<Tracked> {
        let tracked = self.machines.remove(&id)?;
        self.count(&tracked, false);
        self.by_runner.remove(&tracked.view.runner);
        if let Some(due) = tracked.due {
            self.due.remove(&(due, id));
        }
        self.connected_early.remove(&id);
        Some(tracked)
    }

    fn count(&mut self, tracked: &Tracked, present: bool) {
        let view = &tracked.view;
        let load = self.loads.entry(view.supplier).or_default();
        count(&mut load.existing, present);
        if view.state == MachineState::Ordered {
            count(&mut load.ordered, present);
        }
        let tally = self.tallies.entry(view.pool).or_default();
        tally.count(view.id, &tracked.used_for, present);
    }
}

impl Tracked {
    /// Finds what the machine is good for now, and when it has to be looked at again.
    fn look(
        &mut self,
        load: Option<RunnerLoad>,
        is_managed: bool,
        boot_limit: Duration,
        now: Moment,
    ) {
        let is_away = self.view.state == MachineState::Joined
            && load.is_none_or(|load| load.willingness == Availability::Offline);
        self.away_since = is_away.then(|| self.away_since.unwrap_or(now));
        self.due = None;
        self.connected_early = self.view.state.is_coming()
            && load.is_some_and(|load| load.willingness != Availability::Offline);
        self.used_for = self.find_use(load, is_managed, boot_limit, now);
    }

    fn find_use(
        &mut self,
        load: Option<RunnerLoad>,
        is_managed: bool,
        boot_limit: Duration,
        now: Moment,
    ) -> Use {
        let finished = |reason: &str, failed: bool| Use::Retired {
            reason: reason.to_owned(),
            failed,
        };
        let (state, single_use) = (self.view.state, self.view.single_use);
        if state == MachineState::Releasing {
            return Use::Releasing;
        }
        if self.left {
            let reason = match (state, single_use) {
                (MachineState::Joined, true) => "its job is finished",
                (MachineState::Joined, false) => "its runner has left",
                _ => "its runner was retired before it joined",
            };
            return finished(reason, state.is_coming());
        }
        let load = match load.filter(|load| load.willingness != Availability::Offline) {
            Some(load) => load,
            None if state.is_coming() => {
                if now.since(self.view.ordered) > boot_limit {
                    let limit = spoken(boot_limit);
                    return finished(&format!("its runner did not connect within {limit}"), true);
                }
                if !is_managed {
                    return finished("its pool no longer has a supplier", false);
                }
                if boot_limit < Duration::MAX {
                    self.due = Some(self.view.ordered + boot_limit + TICK);
                }
                return Use::Coming;
            }
            None => {
                let since = self.away_since.unwrap_or(now);
                if now.since(since) > AWAY {
                    return finished(
                        &format!("its runner was offline for {}", spoken(AWAY)),
                        false,
                    );
                }
                self.due = Some(since + AWAY + TICK);
                return Use::Leaving;
            }
        };
        match (load.willingness, load.used) {
            (Availability::Takes, 0) if !is_managed => {
                finished("its pool no longer has a supplier", false)
            }
            (Availability::Takes, 0) => Use::Idle {
                since: load.idle_since,
            },
            // It is used up: what it does now is the last that it does.
            (_, 1..) if single_use || load.drains => Use::Leaving,
            (Availability::Takes, _) => Use::Busy,
            (_, 0) if load.drains => finished(
                if single_use {
                    "its job is finished"
                } else {
                    "it was drained and has finished"
                },
                false,
            ),
            // A person keeps it.
            _ => Use::Leaving,
        }
    }
}
