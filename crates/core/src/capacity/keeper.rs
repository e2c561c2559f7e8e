//! What the keeper knows: pools' policies, suppliers, machines, and recent failures.

use super::decided::PoolStanding;
use super::event::{Event, MachineView, ManagedPool, Scope, SupplierView};
use super::fleet::Fleet;
use super::spend::{Meter, Money};
use super::supply::Supply;
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

/// The first pause after something went wrong; each further one is twice as long.
const PAUSE: Duration = Duration::from_secs(2);
/// The longest pause.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// What went wrong of a supplier or a pool, and when it is retried.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SupplierBackoff {
    /// How often in a row.
    pub times: u32,
    pub since: Moment,
    pub until: Moment,
    pub message: String,
}

/// Keeps the pools' machines. See the module's head.
#[derive(Clone, Debug, Default)]
pub struct Keeper {
    pub(super) makers: BTreeMap<SupplierId, SupplierView>,
    pub(super) pools: BTreeMap<PoolId, Arc<ManagedPool>>,
    pub(super) fleet: Fleet,
    pub(super) meters: BTreeMap<PoolId, Meter>,
    pub(super) supplier_backoffs: BTreeMap<SupplierId, SupplierBackoff>,
    pub(super) pool_backoffs: BTreeMap<PoolId, SupplierBackoff>,
    /// How each pool stood after the last decision.
    pub(super) standings: BTreeMap<PoolId, PoolStanding>,
}

fn next_backoff(
    before: Option<&SupplierBackoff>,
    now: Moment,
    message: String,
    jitter: f64,
    retry_after: Option<Duration>,
) -> SupplierBackoff {
    // Faults that come while it is waited for the last one are one and the same: many orders were on their way.
    let (times, since) = match before {
        Some(before) if now < before.until => (before.times, before.since),
        Some(before) => (before.times.saturating_add(1), before.since),
        None => (1, now),
    };
    let doubled = PAUSE.saturating_mul(1 << (times - 1).min(16));
    let pause = retry_after.unwrap_or(doubled).min(LONGEST_PAUSE);
    let pause = pause.mul_f64(1.0 + jitter.clamp(0.0, 1.0) / 2.0);
    let until = (now + pause).max(before.map_or(now, |before| before.until));
    SupplierBackoff {
        times,
        since,
        until,
        message,
    }
}

impl Keeper {
    /// Takes note of an event.
    pub fn apply(&mut self, event: Event, now: Moment) {
        match event {
            Event::Supplier(maker) => {
                let id = maker.id;
                let before = self.makers.insert(id, maker);
                let limit = |maker: Option<&SupplierView>| maker.map(|maker| maker.boot_limit);
                if limit(before.as_ref()) != limit(self.makers.get(&id)) {
                    self.fleet.policy_changed(|machine| machine.supplier == id);
                }
            }
            Event::MakerGone(id) => {
                self.makers.remove(&id);
                self.supplier_backoffs.remove(&id);
                self.fleet.policy_changed(|machine| machine.supplier == id);
            }
            Event::Pool(care) => {
                let before = self.pools.get(&care.id);
                let asks = |care: &ManagedPool| {
                    let Supply {
                        image,
                        size,
                        settings,
                        ..
                    } = care.supply.clone();
                    (care.supplier, image, size, settings)
                };
                // What went wrong with what was asked for before says nothing of what is asked for now.
                if before.is_some_and(|before| asks(before) != asks(&care)) {
                    self.pool_backoffs.remove(&care.id);
                }
                let id = care.id;
                self.pools.insert(id, Arc::from(care));
                self.keep_time(id, now, true);
                self.fleet.policy_changed(|machine| machine.pool == id);
            }
            Event::PoolGone(id) => {
                self.pools.remove(&id);
                self.pool_backoffs.remove(&id);
                self.standings.remove(&id);
                self.fleet.policy_changed(|machine| machine.pool == id);
            }
            Event::Machine(machine) => self.machine(machine, now),
            Event::Left(machine) => self.fleet.runner_left(machine),
            Event::Fault {
                supplier,
                pool,
                scope,
                message,
                jitter,
                retry_after,
            } => {
                let after = |before| next_backoff(before, now, message, jitter, retry_after);
                match scope {
                    Scope::Supplier => {
                        let backoff = after(self.supplier_backoffs.get(&supplier));
                        self.supplier_backoffs.insert(supplier, backoff);
                    }
                    Scope::Pool => {
                        let backoff = after(self.pool_backoffs.get(&pool));
                        self.pool_backoffs.insert(pool, backoff);
                    }
                }
            }
            Event::Fine {
                supplier,
                pool,
                joined,
            } => self.note_success(supplier, pool, joined),
        }
    }

    fn note_success(&mut self, supplier: SupplierId, pool: PoolId, joined: bool) {
        self.supplier_backoffs.remove(&supplier);
        if joined {
            self.pool_backoffs.remove(&pool);
        }
    }

    fn machine(&mut self, machine: MachineView, now: Moment) {
        let id = machine.id;
        let known = self
            .fleet
            .view(id)
            .map(|known| (known.price, known.ordered, known.pool));
        let before = self.fleet.view(id).map(|known| known.state);
        if machine.state == MachineState::Joined && before.is_some_and(MachineState::is_coming) {
            self.note_success(machine.supplier, machine.pool, true);
        }
        if machine.state.exists() {
            let paid = (machine.price, machine.ordered, machine.pool);
            if known != Some(paid) {
                if let Some((price, ordered, pool)) = known {
                    self.meters.entry(pool).or_default().forget(price, ordered);
                }
                let meter = self.meters.entry(machine.pool).or_default();
                meter.begin(machine.price, machine.ordered);
            }
            self.fleet.set(machine);
            return;
        }
        // Told twice of its end, it is paid once.
        if let Some(known) = self.fleet.take(id) {
            let ended = machine.ended.unwrap_or(now);
            let meter = self.meters.entry(known.pool).or_default();
            meter.end(known.price, known.ordered, ended);
        }
    }

    /// Begins to count again what a pool spends, where a day or a month has begun; always where its time zone may be another.
    pub(super) fn keep_time(&mut self, pool: PoolId, now: Moment, always: bool) {
        let (Some(care), meter) = (self.pools.get(&pool), self.meters.entry(pool).or_default())
        else {
            return;
        };
        if always || meter.is_over(now) {
            let machines = self.fleet.views().filter(|machine| machine.pool == pool);
            meter.keep_time(
                now,
                &care.zone,
                machines.map(|one| (one.price, one.ordered)),
            );
        }
    }

    /// Counts what machines cost that ended before this keeper began: price times microseconds, in the day and in the
    /// month that it is (see [`Meter::windows`]).
    pub fn paid_before(&mut self, pool: PoolId, day: u128, month: u128) {
        self.meters.entry(pool).or_default().begin_with(day, month);
    }

    /// Goes on to leave a supplier alone with which something went wrong before this keeper began.
    pub fn resume_backoff(
        &mut self,
        supplier: SupplierId,
        message: String,
        since: Moment,
        until: Moment,
    ) {
        let backoff = SupplierBackoff {
            times: 1,
            since,
            until,
            message,
        };
        self.supplier_backoffs.insert(supplier, backoff);
    }

    /// The machine, while it exists.
    pub fn machine_view(&self, id: MachineId) -> Option<&MachineView> {
        self.fleet.view(id)
    }

    /// The machines that exist.
    pub fn machines(&self) -> impl Iterator<Item = &MachineView> {
        self.fleet.views()
    }

    /// The machine of a runner, while it exists.
    pub fn machine_of(&self, runner: RunnerId) -> Option<MachineId> {
        self.fleet.of_runner(runner)
    }

    /// Machines whose runner is connected although they were not told to have joined, as of the last decision.
    pub fn connected_early(&self) -> &BTreeSet<MachineId> {
        self.fleet.connected_early()
    }

    /// The pools that make machines.
    pub fn pools(&self) -> impl Iterator<Item = &ManagedPool> {
        self.pools.values().map(Arc::as_ref)
    }

    /// How each pool stood after the last decision.
    pub fn standings(&self) -> impl Iterator<Item = &PoolStanding> {
        self.standings.values()
    }

    /// What is wrong with a supplier.
    pub fn backoff_of(&self, supplier: SupplierId) -> Option<&SupplierBackoff> {
        self.supplier_backoffs.get(&supplier)
    }

    /// What is wrong with what a pool asks for.
    pub fn backoff_of_pool(&self, pool: PoolId) -> Option<&SupplierBackoff> {
        self.pool_backoffs.get(&pool)
    }

    /// What a pool spent today and this month.
    pub fn spent(&self, pool: PoolId, now: Moment) -> (Money, Money) {
        let meter = self.meters.get(&pool);
        meter.map_or_else(Default::default, |meter| meter.spent(now))
    }
}
