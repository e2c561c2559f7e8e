//! What to order and what to release, pool by pool.

use super::bounds::Bounds;
use super::decided::Numbers;
use super::decided::{CapacityNote, CapacityPlan, Order, PoolStanding, Release, RunnerDrain};
use super::event::{Event, MachineView, ManagedPool, Scope};
use super::fleet::Tally;
use super::keeper::Keeper;
use crate::dispatch::{PoolRoom, State};
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::{Moment, spoken};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// How often the demand is spread again where pools share what one supplier may still make.
const ROUNDS: usize = 4;

/// A pool of which something is decided: its policy and what it may have.
struct Managed {
    care: Arc<ManagedPool>,
    bounds: Bounds,
}

impl Keeper {
    /// Decides at one moment, after what could start has been started. What it orders and releases it counts at once,
    /// and passes the state the machines that are coming and the reasons why others cannot be ordered. `fresh` gives the ids of each new machine and of its
    /// runner.
    pub fn decide(
        &mut self,
        state: &mut State,
        now: Moment,
        fresh: &mut dyn FnMut() -> (MachineId, RunnerId),
    ) -> CapacityPlan {
        let mut decided = CapacityPlan::default();
        self.fleet.refresh(state, &self.pools, &self.makers, now);
        if self.pools.is_empty() && self.fleet.is_empty() {
            return decided;
        }
        self.release_finished(&mut decided, now);
        let ids: Vec<PoolId> = self.pools.keys().copied().collect();
        for id in ids {
            self.keep_time(id, now, false);
        }
        let none = Tally::default();
        let mut managed_pools: Vec<Managed> = self
            .pools
            .values()
            .map(|care| {
                let tally = self.fleet.tally(care.id).unwrap_or(&none);
                let load = self.fleet.load(care.supplier);
                let bounds = self.bounds(care, tally, load, now);
                let care = Arc::clone(care);
                Managed { care, bounds }
            })
            .collect();
        let wanted = self.spread(state, now, &mut managed_pools);
        for managed in &managed_pools {
            let waiting = wanted.get(&managed.care.id).copied().unwrap_or(0);
            self.settle(state, managed, waiting, now, fresh, &mut decided);
        }
        for standing in self.standings.values() {
            state.set_supply(
                standing.pool,
                standing.coming_slots,
                standing.short.as_deref(),
                standing.full,
            );
        }
        decided
    }

    /// When something changes next by time alone, as far as it can be told beforehand.
    pub fn next_due(&self, now: Moment) -> Option<Moment> {
        let backoffs = self
            .supplier_backoffs
            .values()
            .chain(self.pool_backoffs.values())
            .map(|backoff| backoff.until)
            .filter(|until| *until > now);
        let rested = self.pools.values().filter_map(|care| {
            let tally = self.fleet.tally(care.id)?;
            let (since, _) = tally.idle.first()?;
            let at = *since + Duration::from(care.supply.dwell_us);
            (at > now).then_some(at)
        });
        // Where a week or a budget decides, a minute at most goes by.
        let by_the_minute = self
            .pools
            .values()
            .any(|care| !care.supply.week.times.is_empty() || !care.supply.budget.is_none());
        let minute = by_the_minute.then(|| now + Duration::from_secs(60));
        let fleet = self.fleet.next_due();
        fleet
            .into_iter()
            .chain(minute)
            .chain(backoffs)
            .chain(rested)
            .min()
    }

    /// Releases machines that have nothing more to do here.
    fn release_finished(&mut self, decided: &mut CapacityPlan, now: Moment) {
        for one in self.fleet.finished() {
            if one.failed {
                // The bits of an id that was drawn by lot do for a jitter.
                let lot = (one.machine.0.as_u128() & 0xffff) as f64 / 65_535.0;
                let event = Event::Fault {
                    supplier: one.supplier,
                    pool: one.pool,
                    scope: Scope::Pool,
                    message: format!("its machines do not join: {}", one.reason),
                    jitter: lot,
                    retry_after: None,
                };
                self.apply(event, now);
            }
            let tally = self.fleet.tally(one.pool);
            let numbers = tally.map(|tally| tally.numbers).unwrap_or_default();
            self.release(
                decided,
                one.pool,
                one.machine,
                one.reason,
                one.failed,
                numbers,
            );
        }
    }

    /// How many waiting jobs each pool is to serve. Pools of one supplier share what it may still make.
    fn spread(
        &self,
        state: &mut State,
        now: Moment,
        managed_pools: &mut [Managed],
    ) -> BTreeMap<PoolId, u32> {
        let none = Tally::default();
        let tally = |pool: PoolId| self.fleet.tally(pool).unwrap_or(&none);
        let mut left: BTreeMap<SupplierId, u32> = BTreeMap::new();
        for maker in self.makers.values() {
            if let Some(quota) = maker.quota {
                let existing = self.fleet.load(maker.id).existing;
                left.insert(maker.id, quota.saturating_sub(existing));
            }
        }
        for Managed { care, bounds } in managed_pools.iter_mut() {
            if let Some(left) = left.get(&care.supplier) {
                bounds.more = bounds.more.min(*left);
            }
        }
        let mut wanted = BTreeMap::new();
        for _ in 0..ROUNDS {
            let room = managed_pools
                .iter()
                .map(|Managed { care, bounds }| {
                    let slots = care.supply.machine_slots();
                    let more = if care.paused { 0 } else { bounds.more };
                    let room = PoolRoom {
                        coming: tally(care.id).numbers.coming.saturating_mul(slots),
                        more: more.saturating_mul(slots),
                        slots,
                    };
                    (care.id, room)
                })
                .collect();
            wanted = state.wants(now, &room);
            // Where the pools of one supplier would order more than it may make, the later ones get less.
            let mut left = left.clone();
            let mut less = false;
            for Managed { care, bounds } in managed_pools.iter_mut() {
                let Some(left) = left.get_mut(&care.supplier) else {
                    continue;
                };
                let tally = tally(care.id);
                let waiting = wanted.get(&care.id).copied().unwrap_or(0);
                let orders = bounds
                    .machines_to_keep(&tally.numbers, care.supply.machine_slots(), waiting)
                    .saturating_sub(tally.numbers.counted())
                    .min(bounds.more);
                if orders > *left {
                    bounds.more = *left;
                    less = true;
                }
                *left = left.saturating_sub(orders);
            }
            if !less {
                break;
            }
        }
        // What the quota keeps from a pool is said of it.
        for Managed { care, bounds } in managed_pools.iter_mut() {
            let (Some(maker), Some(left)) =
                (self.makers.get(&care.supplier), left.get(&care.supplier))
            else {
                continue;
            };
            let Some(quota) = maker.quota else { continue };
            let is_used_up = self.fleet.load(maker.id).existing >= quota;
            if bounds.short.is_none() && (*left == 0 || bounds.more == 0) && is_used_up {
                bounds.short = Some(format!("{} has a quota of {quota} machines", maker.name));
            }
        }
        wanted
    }

    /// Decides about one pool, with the jobs that it is to serve.
    fn settle(
        &mut self,
        state: &State,
        managed: &Managed,
        waiting: u32,
        now: Moment,
        fresh: &mut dyn FnMut() -> (MachineId, RunnerId),
        decided: &mut CapacityPlan,
    ) {
        let Managed { care, bounds } = managed;
        let none = Tally::default();
        let slots = care.supply.machine_slots();
        let unknown = state
            .pool_view(care.id)
            .is_some_and(|view| view.makes.is_none());
        let tally = self.fleet.tally(care.id).unwrap_or(&none);
        let mut keep = bounds.machines_to_keep(&tally.numbers, slots, waiting);
        let probe = unknown && keep == 0 && tally.numbers.existing() == 0 && bounds.more > 0;
        if unknown && !bounds.spent && !care.paused && bounds.cap > 0 {
            keep = keep.max(1);
        }
        let before = Numbers {
            waiting,
            floor: bounds.floor,
            spare: bounds.spare,
            ceiling: bounds.cap,
            keep,
            ..tally.numbers
        };
        let orders = keep.saturating_sub(before.counted()).min(bounds.more);
        self.order(care, orders, probe, before, now, fresh, decided);
        self.shrink(care, bounds, before, now, decided);
        let counted = self.fleet.tally(care.id).unwrap_or(&none).numbers;
        let numbers = Numbers {
            busy: counted.busy,
            idle: counted.idle,
            coming: counted.coming,
            leaving: counted.leaving,
            releasing: counted.releasing,
            ..before
        };
        self.note_bounds(care, bounds, numbers, decided);
        let full = numbers.existing() >= care.supply.ceiling;
        let standing = PoolStanding {
            pool: care.id,
            numbers,
            coming_slots: numbers.coming.saturating_mul(slots),
            short: bounds.short.clone(),
            full: full.then_some(care.supply.ceiling),
        };
        if self.standings.get(&care.id) != Some(&standing) {
            decided.pools.push(standing.clone());
            self.standings.insert(care.id, standing);
        }
    }

    #[allow(clippy::too_many_arguments)]
    fn order(
        &mut self,
        care: &ManagedPool,
        orders: u32,
        probe: bool,
        numbers: Numbers,
        now: Moment,
        fresh: &mut dyn FnMut() -> (MachineId, RunnerId),
        decided: &mut CapacityPlan,
    ) {
        for _ in 0..orders {
            let (machine, runner) = fresh();
            let view = MachineView {
                id: machine,
                pool: care.id,
                supplier: care.supplier,
                state: MachineState::Ordered,
                runner,
                price: care.price,
                ordered: now,
                single_use: care.supply.single_use,
                ended: None,
            };
            self.apply(Event::Machine(view), now);
            decided.orders.push(Order {
                machine,
                runner,
                pool: care.id,
                supplier: care.supplier,
                price: care.price,
                single_use: care.supply.single_use,
                probe,
            });
        }
        if orders > 0 {
            let message = if probe {
                "ordered 1 probe machine to discover the pool's facts".to_owned()
            } else {
                format!("ordered {orders}: {}", numbers.describe())
            };
            decided.notes.push(CapacityNote {
                pool: care.id,
                verb: if probe { "probe" } else { "order" },
                machines: orders,
                message,
                numbers,
            });
        }
    }

    /// Releases what is more than may be, at once, and what is more than is wanted, once it has been idle for its dwell.
    fn shrink(
        &mut self,
        care: &ManagedPool,
        bounds: &Bounds,
        numbers: Numbers,
        now: Moment,
        decided: &mut CapacityPlan,
    ) {
        let Some(tally) = self.fleet.tally(care.id) else {
            return;
        };
        let counted = tally.numbers.counted();
        // Machines that are leaving anyway are not replaced.
        let (mut over, reason) = if bounds.spent {
            (counted, bounds.short.clone().unwrap_or_default())
        } else {
            let over = counted.saturating_sub(bounds.cap);
            (over, format!("the ceiling is now {}", bounds.cap))
        };
        let mut released: Vec<(MachineId, String)> = Vec::new();
        // Of those on their way the one ordered last goes first.
        for machine in tally.coming.iter().rev().take(over as usize) {
            released.push((*machine, reason.clone()));
        }
        let gone = u32::try_from(released.len()).unwrap_or(over);
        over -= gone;
        let mut surplus = (counted - gone).saturating_sub(numbers.keep).max(over);
        // The one idle longest goes first; where it has not been idle for long enough, none has.
        for (since, machine) in &tally.idle {
            let rested = now.since(*since) >= Duration::from(care.supply.dwell_us);
            if over > 0 {
                released.push((*machine, reason.clone()));
                over -= 1;
            } else if surplus > 0 && rested {
                let idle = spoken(now.since(*since));
                released.push((*machine, format!("idle for {idle} and not needed")));
            } else {
                break;
            }
            surplus = surplus.saturating_sub(1);
        }
        let drained: Vec<MachineId> = if bounds.spent {
            Vec::new()
        } else {
            tally.busy.iter().take(over as usize).copied().collect()
        };
        self.drain(care, &drained, &reason, numbers, decided);
        for (machine, reason) in released {
            self.release(decided, care.id, machine, reason, false, numbers);
        }
    }

    fn drain(
        &self,
        care: &ManagedPool,
        machines: &[MachineId],
        reason: &str,
        numbers: Numbers,
        decided: &mut CapacityPlan,
    ) {
        let before = decided.drains.len();
        let views = machines.iter().filter_map(|id| self.fleet.view(*id));
        decided.drains.extend(views.map(|view| RunnerDrain {
            machine: view.id,
            runner: view.runner,
            pool: care.id,
        }));
        let count = u32::try_from(decided.drains.len() - before).unwrap_or(u32::MAX);
        if count > 0 {
            decided.notes.push(CapacityNote {
                pool: care.id,
                verb: "drain",
                machines: count,
                message: format!("drained {count}: {reason}"),
                numbers,
            });
        }
    }

    fn release(
        &mut self,
        decided: &mut CapacityPlan,
        pool: PoolId,
        machine: MachineId,
        reason: String,
        failed: bool,
        numbers: Numbers,
    ) {
        self.fleet.release(machine);
        let verb = if failed { "give-up" } else { "release" };
        // Like machines that go for the same reason are one decision.
        match decided
            .notes
            .iter_mut()
            .find(|note| note.pool == pool && note.verb == verb && note.message.ends_with(&reason))
        {
            Some(note) => {
                note.machines += 1;
                note.message = format!("{} {}: {reason}", done(verb), note.machines);
            }
            None => decided.notes.push(CapacityNote {
                pool,
                verb,
                machines: 1,
                message: format!("{} 1: {reason}", done(verb)),
                numbers,
            }),
        }
        decided.releases.push(Release {
            machine,
            pool,
            reason,
            failed,
        });
    }

    /// Notes what would hold a pool back, when that is another than before.
    fn note_bounds(
        &mut self,
        care: &ManagedPool,
        bounds: &Bounds,
        numbers: Numbers,
        decided: &mut CapacityPlan,
    ) {
        let standing = self.standings.get(&care.id);
        let before = standing.and_then(|standing| standing.short.as_deref());
        if before == bounds.short.as_deref() {
            return;
        }
        let (verb, message) = match &bounds.short {
            None => (
                "go-on",
                format!("ordering resumed; was: {}", before.unwrap_or_default()),
            ),
            Some(short) => ("hold-back", format!("ordering paused: {short}")),
        };
        decided.notes.push(CapacityNote {
            pool: care.id,
            verb,
            machines: 0,
            message,
            numbers,
        });
    }
}

fn done(verb: &str) -> &'static str {
    if verb == "give-up" {
        "gave up"
    } else {
        "released"
    }
}
