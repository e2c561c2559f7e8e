//! What to order and what to release, pool by pool.

use super::keeper::{Keeper, MachineView, PoolCare};
use super::spend::Money;
use crate::dispatch::{Event as Told, Price, Room, RunnerView, State, Willingness};
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use utoipa::ToSchema;

/// A machine whose runner is away this long is given up.
const AWAY: Duration = Duration::from_secs(120);
/// A budget has to last this long for all machines of a pool, or no further one is ordered.
const BUDGET_LASTS: Duration = Duration::from_secs(600);
/// How often the demand is spread anew where pools share what one supplier may still make.
const ROUNDS: usize = 4;

/// The numbers behind a decision about one pool.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Numbers {
    /// Waiting jobs that this pool is the one to serve.
    pub waiting: u32,
    /// Machines with a job that will take another after it.
    pub busy: u32,
    /// Machines without a job.
    pub idle: u32,
    /// Machines that are ordered or booting.
    pub coming: u32,
    /// Machines that are used up, told to leave, away or held by a person: there, but not to be counted on.
    pub leaving: u32,
    /// Machines that the supplier is being told to remove.
    pub releasing: u32,
    pub floor: u32,
    pub spare: u32,
    pub ceiling: u32,
    /// How many machines there should be, those that are leaving aside.
    pub keep: u32,
}

impl Numbers {
    /// Machines that are there or coming and can be counted on.
    pub fn counted(&self) -> u32 {
        self.busy + self.idle + self.coming
    }

    /// Machines of which something exists.
    pub fn existing(&self) -> u32 {
        self.counted() + self.leaving + self.releasing
    }

    fn said(&self) -> String {
        let mut parts = Vec::new();
        let mut part = |count: u32, what: &str| {
            if count > 0 {
                parts.push(format!("{count} {what}"));
            }
        };
        part(self.waiting, "waiting");
        part(self.busy, "busy");
        part(self.leaving, "leaving");
        if self.busy + self.leaving + self.idle + self.coming + self.releasing == 0 {
            parts.push("no machine".to_owned());
        } else {
            parts.push(format!("{} idle", self.idle));
            parts.push(format!("{} coming", self.coming));
        }
        let mut part = |count: u32, what: &str| {
            if count > 0 {
                parts.push(format!("{what} {count}"));
            }
        };
        part(self.releasing, "releasing");
        part(self.floor, "floor");
        part(self.spare, "spare");
        parts.push(format!("ceiling {}", self.ceiling));
        parts.join(", ")
    }
}

/// A machine to order.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Order {
    pub machine: MachineId,
    pub runner: RunnerId,
    pub pool: PoolId,
    pub supplier: SupplierId,
    pub price: Price,
    pub single_use: bool,
    /// Whether it is to find out what this pool's machines are.
    pub probe: bool,
}

/// A machine to remove.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Release {
    pub machine: MachineId,
    pub pool: PoolId,
    pub why: String,
    /// Whether it never did what it was ordered for.
    pub failed: bool,
}

/// A machine that is to take nothing new, because there are more than may be.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Drain {
    pub machine: MachineId,
    pub runner: RunnerId,
    pub pool: PoolId,
}

/// What was decided of a pool, with its reason. It is kept.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Note {
    pub pool: PoolId,
    /// `order`, `probe`, `release`, `give-up`, `drain`, `hold-back`, `go-on`.
    pub verb: &'static str,
    /// How many machines it is about.
    pub machines: u32,
    pub said: String,
    pub numbers: Numbers,
}

/// How a pool stands after the decision.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PoolStanding {
    pub pool: PoolId,
    pub numbers: Numbers,
    /// Slots of machines that are coming.
    pub coming_slots: u32,
    /// Why no further one can be had.
    pub short: Option<String>,
    /// Its ceiling, where it is reached.
    pub full: Option<u32>,
}

/// What is to be done.
#[must_use]
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Decided {
    pub orders: Vec<Order>,
    pub releases: Vec<Release>,
    pub drains: Vec<Drain>,
    pub notes: Vec<Note>,
    pub pools: Vec<PoolStanding>,
}

impl Decided {
    /// Whether nothing is to be done.
    pub fn is_empty(&self) -> bool {
        self.orders.is_empty()
            && self.releases.is_empty()
            && self.drains.is_empty()
            && self.notes.is_empty()
    }
}

/// A pool's machines by how they stand.
#[derive(Clone, Default)]
struct Tally {
    numbers: Numbers,
    /// Those without a job, and since when, the one idle longest first.
    idle: Vec<(Moment, MachineId)>,
    /// Those on their way, the one ordered last first.
    coming: Vec<MachineId>,
    /// Those with a job that would take another.
    busy: Vec<MachineId>,
    /// Those with nothing more to do here.
    over: Vec<(MachineId, String, bool)>,
    paid: Vec<(Price, Moment)>,
}

/// What one supplier has, for all pools.
#[derive(Clone, Copy, Default)]
struct Load {
    there: u32,
    /// Whether it is being asked for a machine just now.
    asked: bool,
}

/// What one pool may have.
#[derive(Clone, Default)]
struct Bounds {
    floor: u32,
    spare: u32,
    /// Machines that may exist.
    cap: u32,
    /// Further machines that may be ordered now.
    more: u32,
    short: Option<String>,
    /// Whether what it may cost is used up.
    spent: bool,
}

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
        let cares: Vec<PoolCare> = self.pools.values().cloned().collect();
        let mut bounds: BTreeMap<PoolId, Bounds> = BTreeMap::new();
        for care in &cares {
            if let Some(meter) = self.meters.get_mut(&care.id) {
                meter.keep_time(now, &care.zone);
            }
            let tally = tallies.entry(care.id).or_default();
            let load = *loads.entry(care.supplier).or_default();
            bounds.insert(care.id, self.bounds(care, tally, load, now));
        }
        let wanted = self.spread(state, now, &cares, &tallies, &loads, &mut bounds);
        for care in &cares {
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

    /// Notes since when the runners of machines are away.
    fn note_away(&mut self, state: &State, now: Moment) {
        let (machines, away) = (&self.machines, &mut self.away);
        for machine in machines.values() {
            let gone = machine.state == MachineState::Joined
                && state
                    .load_of(machine.runner)
                    .is_none_or(|(willing, _, _)| willing == Willingness::Offline);
            if gone {
                away.entry(machine.id).or_insert(now);
            } else {
                away.remove(&machine.id);
            }
        }
    }

    fn tallies(
        &self,
        state: &State,
        now: Moment,
    ) -> (BTreeMap<PoolId, Tally>, BTreeMap<SupplierId, Load>) {
        let mut tallies: BTreeMap<PoolId, Tally> = BTreeMap::new();
        let mut loads: BTreeMap<SupplierId, Load> = BTreeMap::new();
        for machine in self.machines.values() {
            let load = loads.entry(machine.supplier).or_default();
            load.there += 1;
            load.asked |= machine.state == MachineState::Ordered;
            let tally = tallies.entry(machine.pool).or_default();
            tally.paid.push((machine.price, machine.ordered));
            self.count(tally, state, machine, now);
        }
        for tally in tallies.values_mut() {
            tally.idle.sort_unstable();
            // Ids are in the order in which they were made.
            tally.coming.reverse();
        }
        (tallies, loads)
    }

    /// Counts one machine as what it is good for.
    fn count(&self, tally: &mut Tally, state: &State, machine: &MachineView, now: Moment) {
        if machine.state == MachineState::Releasing {
            tally.numbers.releasing += 1;
            return;
        }
        let care = self.pools.get(&machine.pool);
        let retired = self.left.contains(&machine.id);
        let mut over = |why: String, failed: bool| {
            tally.numbers.leaving += 1;
            tally.over.push((machine.id, why, failed));
        };
        if retired {
            let why = match (machine.state, machine.single_use) {
                (MachineState::Joined, true) => "its one job is done",
                (MachineState::Joined, false) => "its runner has left",
                _ => "its runner was retired before it came",
            };
            return over(why.to_owned(), machine.state.is_coming());
        }
        let load = state.load_of(machine.runner);
        let (willing, used, idle_since) = match load {
            Some((Willingness::Offline, _, _)) | None if machine.state.is_coming() => {
                let limit = self
                    .makers
                    .get(&machine.supplier)
                    .map_or(Duration::MAX, |maker| maker.boot_limit);
                if now.since(machine.ordered) > limit {
                    let limit = crate::time::spoken(limit);
                    return over(format!("its runner did not connect within {limit}"), true);
                }
                if care.is_none() {
                    return over("its pool makes no machines any more".to_owned(), false);
                }
                tally.numbers.coming += 1;
                tally.coming.push(machine.id);
                return;
            }
            Some((Willingness::Offline, _, _)) | None => {
                let away = self
                    .away
                    .get(&machine.id)
                    .map_or(Duration::ZERO, |at| now.since(*at));
                if away > AWAY {
                    let away = crate::time::spoken(AWAY);
                    return over(format!("its runner was away for {away}"), false);
                }
                tally.numbers.leaving += 1;
                return;
            }
            Some(load) => load,
        };
        let draining = state
            .runner_view(machine.runner)
            .is_some_and(RunnerView::drains);
        match (willing, used) {
            (Willingness::Takes, 0) if care.is_none() => {
                over("its pool makes no machines any more".to_owned(), false);
            }
            (Willingness::Takes, 0) => {
                tally.numbers.idle += 1;
                tally.idle.push((idle_since, machine.id));
            }
            // It is used up: what it does now is the last that it does.
            (_, 1..) if machine.single_use || draining => tally.numbers.leaving += 1,
            (Willingness::Takes, _) => {
                tally.numbers.busy += 1;
                tally.busy.push(machine.id);
            }
            (_, 0) if draining => {
                let why = if machine.single_use {
                    "its one job is done"
                } else {
                    "it was told to finish, and has"
                };
                over(why.to_owned(), false);
            }
            // A person keeps it.
            _ => tally.numbers.leaving += 1,
        }
    }

    /// What a pool may have, and what it could still order.
    fn bounds(&self, care: &PoolCare, tally: &Tally, load: Load, now: Moment) -> Bounds {
        let supply = &care.supply;
        let (floor, spare) = supply.floor_and_spare(&care.zone, now);
        let mut bounds = Bounds {
            floor,
            spare,
            cap: supply.ceiling,
            ..Bounds::default()
        };
        let existing = tally.numbers.existing();
        bounds.more = bounds.cap.saturating_sub(existing);
        if care.paused {
            bounds.more = 0;
            bounds.floor = 0;
            bounds.spare = 0;
        }
        if let Some(said) = self.budget_used(care, tally, now, &mut bounds) {
            bounds.short = Some(said);
        }
        let mut faulty = |trouble: Option<&super::Trouble>, asked: bool, name: &str| {
            let Some(trouble) = trouble else { return };
            bounds.short = Some(format!("{name}{}", trouble.said));
            // When it is time to try again, one order goes ahead of the others.
            let may_try = now >= trouble.until && !asked;
            bounds.more = bounds.more.min(u32::from(may_try));
        };
        let Some(maker) = self.makers.get(&care.supplier) else {
            bounds.more = 0;
            bounds.short = Some(format!("there is no supplier {:?}", supply.supplier));
            return bounds;
        };
        let trouble = self.pool_trouble.get(&care.id);
        faulty(trouble, tally.numbers.coming > 0, "");
        faulty(
            self.maker_trouble.get(&care.supplier),
            load.asked,
            &format!("{} fails: ", maker.name),
        );
        bounds
    }

    /// Why a pool's budget allows no further machine, and what follows of it for the bounds.
    fn budget_used(
        &self,
        care: &PoolCare,
        tally: &Tally,
        now: Moment,
        bounds: &mut Bounds,
    ) -> Option<String> {
        let budget = care.supply.budget;
        if budget.is_none() {
            return None;
        }
        let (day, month) = self
            .meters
            .get(&care.id)?
            .spent(tally.paid.iter().copied(), now);
        let mut said = None;
        for (limit, spent, when) in [
            (budget.day, day, "today"),
            (budget.month, month, "this month"),
        ] {
            let Some(limit) = limit else { continue };
            if spent >= limit {
                bounds.spent = true;
                bounds.more = 0;
                said = Some(format!("its budget of {limit} for {when} is used up"));
                continue;
            }
            // All of its machines, with the further ones, for as long as the budget has to last.
            let left = limit.0 - spent.0;
            let one = Money(
                u64::try_from(u128::from(care.price.0) * BUDGET_LASTS.as_secs() as u128 / 3600)
                    .unwrap_or(u64::MAX),
            );
            let Some(all) = left.checked_div(one.0) else {
                continue;
            };
            let there = u64::from(tally.numbers.existing());
            let more = u32::try_from(all.saturating_sub(there)).unwrap_or(u32::MAX);
            if more < bounds.more {
                bounds.more = more;
                if more == 0 && said.is_none() {
                    said = Some(format!(
                        "its budget of {limit} for {when} is nearly used up, and another machine would end it within {}",
                        crate::time::spoken(BUDGET_LASTS)
                    ));
                }
            }
        }
        said
    }

    /// How many waiting jobs each pool is to serve. Pools of one supplier share what it may still make.
    fn spread(
        &self,
        state: &mut State,
        now: Moment,
        cares: &[PoolCare],
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
        for care in cares {
            if let (Some(left), Some(bounds)) = (left.get(&care.supplier), bounds.get_mut(&care.id))
            {
                bounds.more = bounds.more.min(*left);
            }
        }
        let mut wanted = BTreeMap::new();
        for _ in 0..ROUNDS {
            let room = cares
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
            for care in cares {
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
        for care in cares {
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

impl Tally {
    /// How many machines there should be: the one number by which it is ordered and released.
    fn keep(&self, bounds: &Bounds, slots: u32, waiting: u32) -> u32 {
        let numbers = &self.numbers;
        let serve = waiting.div_ceil(slots.max(1));
        let keep = bounds
            .floor
            .max(numbers.busy + serve.saturating_add(bounds.spare));
        if bounds.spent {
            return numbers.busy;
        }
        keep.min(bounds.cap.saturating_sub(numbers.leaving))
            .max(numbers.busy.min(bounds.cap))
    }
}
