//! What to order and what to release, pool by pool.

use super::bounds::Bounds;
use super::decided::Numbers;
use super::decided::{Decided, Drain, Note, Order, PoolStanding, Release};
use super::keeper::{Keeper, MachineView, PoolCare};
use super::tally::{Load, Tally};
use crate::dispatch::{Event as Told, Room, State};
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use std::collections::BTreeMap;
use std::time::Duration;

/// How often the demand is spread anew where pools share what one supplier may still make.
const ROUNDS: usize = 4;

impl Keeper {
    /// Decides at one moment, after what could start has been started. What it orders and releases it counts at once,
    /// and the state is told what is coming and what cannot be had. `fresh` gives the ids of each new machine and of its
    /// runner.
    pub fn decide(
        &mut self,
        state: &mut State,
        now: Moment,
        fresh: &mut dyn FnMut() -> (MachineId, RunnerId),
    ) -> Decided {
        let mut decided = Decided::default();
        if self.pools.is_empty() && self.machines.is_empty() {
            return decided;
        }
        self.note_away(state, now);
        let (mut tallies, mut loads) = self.tallies(state, now);
        for (pool, tally) in &mut tallies {
            for (machine, why, failed) in std::mem::take(&mut tally.over) {
                tally.numbers.leaving = tally.numbers.leaving.saturating_sub(1);
                tally.numbers.releasing += 1;
                if failed && let Some(view) = self.machines.get(&machine) {
                    // The bits of an id that was drawn by lot do for a jitter.
                    let lot = (machine.0.as_u128() & 0xffff) as f64 / 65_535.0;
                    let event = super::Event::Fault {
                        supplier: view.supplier,
                        pool: *pool,
                        scope: super::Scope::Pool,
                        said: format!("its machines do not come: {why}"),
                        jitter: lot,
                        retry_after: None,
                    };
                    self.apply(event, now);
                }
                self.release(&mut decided, *pool, machine, why, failed, tally.numbers);
            }
        }
        let managed_pools: Vec<PoolCare> = self.pools.values().cloned().collect();
        let mut bounds: BTreeMap<PoolId, Bounds> = BTreeMap::new();
        for care in &managed_pools {
            if let Some(meter) = self.meters.get_mut(&care.id) {
                meter.keep_time(now, &care.zone);
            }
            let tally = tallies.entry(care.id).or_default();
            let load = *loads.entry(care.supplier).or_default();
            bounds.insert(care.id, self.bounds(care, tally, load, now));
        }
        let wanted = self.spread(state, now, &managed_pools, &tallies, &loads, &mut bounds);
        for care in &managed_pools {
            let (Some(tally), Some(bounds)) = (tallies.get_mut(&care.id), bounds.get(&care.id))
            else {
                continue;
            };
            let waiting = wanted.get(&care.id).copied().unwrap_or(0);
            self.settle(
                state,
                care,
                tally,
                bounds,
                waiting,
                now,
                fresh,
                &mut decided,
            );
        }
        for standing in &decided.pools {
            if let Some(view) = state.pool_view(standing.pool)
                && (view.coming, &view.short, view.full)
                    != (standing.coming_slots, &standing.short, standing.full)
            {
                let mut view = view.clone();
                view.coming = standing.coming_slots;
                view.short.clone_from(&standing.short);
                view.full = standing.full;
                state.apply(Told::Pool(Box::new(view)), now);
            }
        }
        decided
    }

    /// How many waiting jobs each pool is to serve. Pools of one supplier share what it may still make.
    fn spread(
        &self,
        state: &mut State,
        now: Moment,
        managed_pools: &[PoolCare],
        tallies: &BTreeMap<PoolId, Tally>,
        loads: &BTreeMap<SupplierId, Load>,
        bounds: &mut BTreeMap<PoolId, Bounds>,
    ) -> BTreeMap<PoolId, u32> {
        let mut left: BTreeMap<SupplierId, u32> = BTreeMap::new();
        for maker in self.makers.values() {
            if let Some(quota) = maker.quota {
                let there = loads.get(&maker.id).map_or(0, |load| load.there);
                left.insert(maker.id, quota.saturating_sub(there));
            }
        }
        for care in managed_pools {
            if let (Some(left), Some(bounds)) = (left.get(&care.supplier), bounds.get_mut(&care.id))
            {
                bounds.more = bounds.more.min(*left);
            }
        }
        let mut wanted = BTreeMap::new();
        for _ in 0..ROUNDS {
            let room = managed_pools
                .iter()
                .filter_map(|care| {
                    let slots = care.supply.machine_slots();
                    let tally = tallies.get(&care.id)?;
                    let bounds = bounds.get(&care.id)?;
                    Some((
                        care.id,
                        Room {
                            coming: tally.numbers.coming.saturating_mul(slots),
                            more: if care.paused {
                                0
                            } else {
                                bounds.more.saturating_mul(slots)
                            },
                            slots,
                        },
                    ))
                })
                .collect();
            wanted = state.wants(now, &room);
            // Where the pools of one supplier would order more than it may make, the later ones get less.
            let mut left = left.clone();
            let mut less = false;
            for care in managed_pools {
                let (Some(left), Some(tally), Some(bounds)) = (
                    left.get_mut(&care.supplier),
                    tallies.get(&care.id),
                    bounds.get_mut(&care.id),
                ) else {
                    continue;
                };
                let waiting = wanted.get(&care.id).copied().unwrap_or(0);
                let orders = tally
                    .keep(bounds, care.supply.machine_slots(), waiting)
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
        for care in managed_pools {
            let Some(maker) = self.makers.get(&care.supplier) else {
                continue;
            };
            if let (Some(quota), Some(left), Some(bounds)) = (
                maker.quota,
                left.get(&care.supplier),
                bounds.get_mut(&care.id),
            ) {
                let there = loads.get(&maker.id).map_or(0, |load| load.there);
                if bounds.short.is_none() && (*left == 0 || bounds.more == 0) && there >= quota {
                    bounds.short = Some(format!("{} makes {quota} machines at most", maker.name));
                }
            }
        }
        wanted
    }

    /// Decides about one pool, with the jobs that it is to serve.
    #[allow(clippy::too_many_arguments)]
    fn settle(
        &mut self,
        state: &State,
        care: &PoolCare,
        tally: &mut Tally,
        bounds: &Bounds,
        waiting: u32,
        now: Moment,
        fresh: &mut dyn FnMut() -> (MachineId, RunnerId),
        decided: &mut Decided,
    ) {
        let slots = care.supply.machine_slots();
        let unknown = state
            .pool_view(care.id)
            .is_some_and(|view| view.makes.is_none());
        let mut keep = tally.keep(bounds, slots, waiting);
        let probe = unknown && keep == 0 && tally.numbers.existing() == 0 && bounds.more > 0;
        if unknown && !bounds.spent && !care.paused && bounds.cap > 0 {
            keep = keep.max(1);
        }
        let numbers = &mut tally.numbers;
        numbers.waiting = waiting;
        (numbers.floor, numbers.spare, numbers.ceiling) = (bounds.floor, bounds.spare, bounds.cap);
        numbers.keep = keep;
        let before = *numbers;
        let orders = keep.saturating_sub(numbers.counted()).min(bounds.more);
        for _ in 0..orders {
            let (machine, runner) = fresh();
            numbers.coming += 1;
            let order = Order {
                machine,
                runner,
                pool: care.id,
                supplier: care.supplier,
                price: care.price,
                single_use: care.supply.single_use,
                probe,
            };
            self.machines.insert(
                machine,
                MachineView {
                    id: machine,
                    pool: care.id,
                    supplier: care.supplier,
                    state: MachineState::Ordered,
                    runner,
                    price: care.price,
                    ordered: now,
                    single_use: care.supply.single_use,
                    ended: None,
                },
            );
            decided.orders.push(order);
        }
        if orders > 0 {
            let said = if probe {
                "ordered 1 to find out what its machines are".to_owned()
            } else {
                format!("ordered {orders}: {}", before.said())
            };
            decided.notes.push(Note {
                pool: care.id,
                verb: if probe { "probe" } else { "order" },
                machines: orders,
                said,
                numbers: before,
            });
        }
        self.shrink(care, tally, bounds, now, decided);
        self.say_bounds(care, tally, bounds, decided);
        let full = tally.numbers.existing() >= care.supply.ceiling;
        decided.pools.push(PoolStanding {
            pool: care.id,
            numbers: tally.numbers,
            coming_slots: tally.numbers.coming.saturating_mul(slots),
            short: bounds.short.clone(),
            full: full.then_some(care.supply.ceiling),
        });
    }

    /// Releases what is more than may be, at once, and what is more than is wanted, once it has been idle for its dwell.
    fn shrink(
        &mut self,
        care: &PoolCare,
        tally: &mut Tally,
        bounds: &Bounds,
        now: Moment,
        decided: &mut Decided,
    ) {
        let before = tally.numbers;
        // Those that are leaving anyway are not made up for by others.
        let (mut over, why) = if bounds.spent {
            (before.counted(), bounds.short.clone().unwrap_or_default())
        } else {
            let over = before.counted().saturating_sub(bounds.cap);
            (over, format!("the ceiling is {} by now", bounds.cap))
        };
        let mut released: Vec<(MachineId, String)> = Vec::new();
        for machine in tally.coming.iter().take(over as usize) {
            released.push((*machine, why.clone()));
            tally.numbers.coming -= 1;
        }
        over -= u32::try_from(released.len()).unwrap_or(over);
        let idle: Vec<(Moment, MachineId)> = tally.idle.drain(..).collect();
        let surplus = tally.numbers.counted().saturating_sub(before.keep);
        let mut surplus = surplus.max(over);
        for (since, machine) in idle {
            let rested = now.since(since) >= Duration::from(care.supply.dwell_us);
            if over > 0 {
                released.push((machine, why.clone()));
                over -= 1;
            } else if surplus > 0 && rested {
                let idle = crate::time::spoken(now.since(since));
                released.push((machine, format!("idle for {idle} and not wanted")));
            } else {
                continue;
            }
            surplus = surplus.saturating_sub(1);
            tally.numbers.idle -= 1;
        }
        if !bounds.spent && over > 0 {
            let busy = tally.busy.iter().take(over as usize);
            let drained: Vec<MachineId> = busy.copied().collect();
            let mut count = 0;
            for machine in drained {
                if let Some(view) = self.machines.get(&machine) {
                    decided.drains.push(Drain {
                        machine,
                        runner: view.runner,
                        pool: care.id,
                    });
                    count += 1;
                }
            }
            if count > 0 {
                decided.notes.push(Note {
                    pool: care.id,
                    verb: "drain",
                    machines: count,
                    said: format!("told {count} to finish: {why}"),
                    numbers: before,
                });
            }
        }
        for (machine, why) in released {
            tally.numbers.releasing += 1;
            self.release(decided, care.id, machine, why, false, before);
        }
    }

    fn release(
        &mut self,
        decided: &mut Decided,
        pool: PoolId,
        machine: MachineId,
        why: String,
        failed: bool,
        numbers: Numbers,
    ) {
        if let Some(view) = self.machines.get_mut(&machine) {
            view.state = MachineState::Releasing;
        }
        self.away.remove(&machine);
        let verb = if failed { "give-up" } else { "release" };
        // Like machines that go for the same reason are one decision.
        match decided
            .notes
            .iter_mut()
            .find(|note| note.pool == pool && note.verb == verb && note.said.ends_with(&why))
        {
            Some(note) => {
                note.machines += 1;
                note.said = format!("{} {}: {why}", done(verb), note.machines);
            }
            None => decided.notes.push(Note {
                pool,
                verb,
                machines: 1,
                said: format!("{} 1: {why}", done(verb)),
                numbers,
            }),
        }
        decided.releases.push(Release {
            machine,
            pool,
            why,
            failed,
        });
    }

    /// Notes what would hold a pool back, when that is another than before.
    fn say_bounds(
        &mut self,
        care: &PoolCare,
        tally: &Tally,
        bounds: &Bounds,
        decided: &mut Decided,
    ) {
        let said = bounds.short.clone().unwrap_or_default();
        let before = self.held_back.get(&care.id).cloned().unwrap_or_default();
        if before == said {
            return;
        }
        let (verb, said_so) = if said.is_empty() {
            ("go-on", format!("goes on; before: {before}"))
        } else {
            ("hold-back", format!("orders nothing more: {said}"))
        };
        decided.notes.push(Note {
            pool: care.id,
            verb,
            machines: 0,
            said: said_so,
            numbers: tally.numbers,
        });
        self.held_back.insert(care.id, said);
    }
}

fn done(verb: &str) -> &'static str {
    if verb == "give-up" {
        "gave up"
    } else {
        "released"
    }
}
