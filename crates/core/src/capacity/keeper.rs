//! What the keeper knows: pools' policies, suppliers, machines, and what went wrong lately.

use super::spend::{Meter, Money};
use super::supply::Supply;
use crate::dispatch::Price;
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// The first pause after something went wrong; each further one is twice as long.
const PAUSE: Duration = Duration::from_secs(2);
/// The longest pause.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// A supplier, as the keeper sees it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Maker {
    pub id: SupplierId,
    pub name: String,
    /// The most machines that it makes for this installation, where it is known.
    pub quota: Option<u32>,
    /// A machine whose runner has not connected this long after its order never will.
    pub boot_limit: Duration,
}

/// A pool that makes machines, as the keeper sees it.
#[derive(Clone, PartialEq, Debug)]
pub struct PoolCare {
    pub id: PoolId,
    pub name: String,
    pub supplier: SupplierId,
    pub supply: Supply,
    /// The time zone of its week.
    pub zone: TimeZone,
    /// What an hour of its machines costs.
    pub price: Price,
    /// Whether it makes nothing for now.
    pub paused: bool,
}

/// A machine, as the keeper sees it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MachineView {
    pub id: MachineId,
    pub pool: PoolId,
    pub supplier: SupplierId,
    pub state: MachineState,
    /// The record of its runner.
    pub runner: RunnerId,
    pub price: Price,
    pub ordered: Moment,
    /// Whether it takes one job and is used up then.
    pub single_use: bool,
    /// When it ended, where it has.
    pub ended: Option<Moment>,
}

/// What went wrong of a supplier or a pool, and when it is tried again.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SupplierTrouble {
    /// How often in a row.
    pub times: u32,
    pub since: Moment,
    pub until: Moment,
    pub said: String,
}

/// What a fault is one of.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Scope {
    /// The supplier as a whole.
    Supplier,
    /// What one pool asks of it: an image that is not there, a size that is out of stock, machines that never join.
    Pool,
}

/// How something is that the keeper goes by.
#[derive(Clone, PartialEq, Debug)]
pub enum Event {
    /// A supplier is like this.
    Maker(Maker),
    /// A supplier is not there any more.
    MakerGone(SupplierId),
    /// A pool makes machines like this.
    Pool(Box<PoolCare>),
    /// A pool makes no machines any more.
    PoolGone(PoolId),
    /// A machine is like this.
    Machine(MachineView),
    /// The runner of a machine has left for good.
    Left(MachineId),
    /// Something went wrong with a supplier. `jitter`, from 0 to 1, is how much of half a pause is added to it.
    Fault {
        supplier: SupplierId,
        pool: PoolId,
        scope: Scope,
        said: String,
        jitter: f64,
        /// The supplier says itself how long to wait.
        retry_after: Option<Duration>,
    },
    /// A supplier has done what a pool asked of it. `joined` when the machine has connected too.
    Fine {
        supplier: SupplierId,
        pool: PoolId,
        joined: bool,
    },
}

/// Keeps the pools' machines. See the module's head.
#[derive(Clone, Debug, Default)]
pub struct Keeper {
    pub(super) makers: BTreeMap<SupplierId, Maker>,
    pub(super) pools: BTreeMap<PoolId, PoolCare>,
    /// Those that exist.
    pub(super) machines: BTreeMap<MachineId, MachineView>,
    pub(super) meters: BTreeMap<PoolId, Meter>,
    pub(super) maker_trouble: BTreeMap<SupplierId, SupplierTrouble>,
    pub(super) pool_trouble: BTreeMap<PoolId, SupplierTrouble>,
    /// Machines that have joined and whose runner is away, and since when.
    pub(super) away: BTreeMap<MachineId, Moment>,
    /// Machines whose runner has left for good.
    pub(super) left: BTreeSet<MachineId>,
    /// What was last said to hold a pool back.
    pub(super) held_back: BTreeMap<PoolId, String>,
}

fn trouble_after(
    before: Option<&SupplierTrouble>,
    now: Moment,
    said: String,
    jitter: f64,
    retry_after: Option<Duration>,
) -> SupplierTrouble {
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
    SupplierTrouble {
        times,
        since,
        until,
        said,
    }
}

impl Keeper {
    /// Takes note of an event.
    pub fn apply(&mut self, event: Event, now: Moment) {
        match event {
            Event::Maker(maker) => {
                self.makers.insert(maker.id, maker);
            }
            Event::MakerGone(id) => {
                self.makers.remove(&id);
                self.maker_trouble.remove(&id);
            }
            Event::Pool(care) => {
                let before = self.pools.get(&care.id);
                let asks = |care: &PoolCare| {
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
                    self.pool_trouble.remove(&care.id);
                }
                let meter = self.meters.entry(care.id).or_default();
                meter.keep_time(now, &care.zone);
                self.pools.insert(care.id, *care);
            }
            Event::PoolGone(id) => {
                self.pools.remove(&id);
                self.pool_trouble.remove(&id);
                self.held_back.remove(&id);
            }
            Event::Machine(machine) => self.machine(machine, now),
            Event::Left(machine) => {
                if self.machines.contains_key(&machine) {
                    self.left.insert(machine);
                }
            }
            Event::Fault {
                supplier,
                pool,
                scope,
                said,
                jitter,
                retry_after,
            } => {
                let after = |before| trouble_after(before, now, said, jitter, retry_after);
                match scope {
                    Scope::Supplier => {
                        let trouble = after(self.maker_trouble.get(&supplier));
                        self.maker_trouble.insert(supplier, trouble);
                    }
                    Scope::Pool => {
                        let trouble = after(self.pool_trouble.get(&pool));
                        self.pool_trouble.insert(pool, trouble);
                    }
                }
            }
            Event::Fine {
                supplier,
                pool,
                joined,
            } => {
                self.maker_trouble.remove(&supplier);
                if joined {
                    self.pool_trouble.remove(&pool);
                }
            }
        }
    }

    fn machine(&mut self, machine: MachineView, now: Moment) {
        if machine.state.exists() {
            self.machines.insert(machine.id, machine);
            return;
        }
        self.away.remove(&machine.id);
        self.left.remove(&machine.id);
        let known = self.machines.remove(&machine.id);
        // Told twice of its end, it is paid once.
        if let Some(known) = known {
            let ended = machine.ended.unwrap_or(now);
            let meter = self.meters.entry(known.pool).or_default();
            meter.add(known.price, known.ordered, ended);
        }
    }

    /// Counts what machines cost that ended before this keeper began: price times microseconds, in the day and in the
    /// month that it is (see [`Meter::windows`]).
    pub fn paid_before(&mut self, pool: PoolId, day: u128, month: u128) {
        self.meters.entry(pool).or_default().begin_with(day, month);
    }

    /// Goes on to leave a supplier alone with which something went wrong before this keeper began.
    pub fn resume_trouble(
        &mut self,
        supplier: SupplierId,
        said: String,
        since: Moment,
        until: Moment,
    ) {
        let trouble = SupplierTrouble {
            times: 1,
            since,
            until,
            said,
        };
        self.maker_trouble.insert(supplier, trouble);
    }

    /// The machine, while it exists.
    pub fn machine_view(&self, id: MachineId) -> Option<&MachineView> {
        self.machines.get(&id)
    }

    /// The machines that exist.
    pub fn machines(&self) -> impl Iterator<Item = &MachineView> {
        self.machines.values()
    }

    /// The pools that make machines.
    pub fn pools(&self) -> impl Iterator<Item = &PoolCare> {
        self.pools.values()
    }

    /// What is wrong with a supplier.
    pub fn trouble_of(&self, supplier: SupplierId) -> Option<&SupplierTrouble> {
        self.maker_trouble.get(&supplier)
    }

    /// What is wrong with what a pool asks for.
    pub fn trouble_of_pool(&self, pool: PoolId) -> Option<&SupplierTrouble> {
        self.pool_trouble.get(&pool)
    }

    /// What a pool spent today and this month.
    pub fn spent(&self, pool: PoolId, now: Moment) -> (Money, Money) {
        let there = self
            .machines
            .values()
            .filter(|machine| machine.pool == pool)
            .map(|machine| (machine.price, machine.ordered));
        self.meters
            .get(&pool)
            .map_or_else(Default::default, |meter| meter.spent(there, now))
    }
}
