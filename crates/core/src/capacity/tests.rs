//! The keeper in a world of its own: pools, a supplier that fails at times, jobs that come and end.

use super::*;
use crate::dispatch::{
    Event as DispatchEvent, PoolView, Price, Reason, RunnerView, Segment, State, StrandKey,
};
use crate::fact::{FactValue, Facts, Subject};
use crate::id::{AttemptId, JobId, MachineId, PoolId, RunnerId, StrandId, SupplierId};
use crate::lifecycle::machine::{MachineEvent, MachineState};
use crate::lifecycle::runner::{DesiredState, RunnerState};
use crate::time::{Micros, Moment};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

const SECOND: Duration = Duration::from_secs(1);

fn id<T: From<Uuid>>(number: u64) -> T {
    T::from(Uuid::from_u128(u128::from(number)))
}

/// What becomes of an order.
#[derive(Clone, Copy, PartialEq, Debug)]
enum Mood {
    Works,
    /// Every order is refused.
    Down,
    /// Orders are taken, and nothing ever comes.
    Mute,
}

struct Thing {
    order: Order,
    ready: Option<Moment>,
    gone: Option<Moment>,
}

struct World {
    state: State,
    keeper: Keeper,
    now: Moment,
    fresh: u64,
    boot: Duration,
    removal: Duration,
    mood: BTreeMap<SupplierId, Mood>,
    /// What the suppliers have.
    there: BTreeMap<MachineId, Thing>,
    attempts: BTreeMap<AttemptId, (JobId, RunnerId, Moment)>,
    length: Duration,
    done: usize,
    notes: Vec<CapacityNote>,
    reasons: Vec<Segment>,
    strands: u64,
}

fn facts(arch: &str) -> Facts {
    [("arch".to_owned(), FactValue::Text(arch.to_owned()))].into()
}

impl World {
    fn new() -> World {
        World {
            state: State::default(),
            keeper: Keeper::default(),
            now: Moment::from_micros(1_795_415_517_000_000),
            fresh: 1000,
            boot: 30 * SECOND,
            removal: 5 * SECOND,
            mood: BTreeMap::new(),
            there: BTreeMap::new(),
            attempts: BTreeMap::new(),
            length: 60 * SECOND,
            done: 0,
            notes: Vec::new(),
            reasons: Vec::new(),
            strands: 0,
        }
    }

    fn maker(&mut self, number: u64, quota: Option<u32>) {
        let maker = SupplierView {
            id: id(number),
            name: format!("supplier-{number}"),
            quota,
            boot_limit: 300 * SECOND,
        };
        self.keeper.apply(Event::Supplier(maker), self.now);
        self.mood.entry(id(number)).or_insert(Mood::Works);
    }

    /// A pool whose machines are of an architecture, at a price.
    fn pool(&mut self, number: u64, supplier: u64, arch: &str, price: u64, supply: Supply) {
        let view = PoolView {
            id: id(number),
            name: format!("pool-{number}"),
            open: true,
            price: Price(price),
            makes: (!arch.is_empty()).then(|| Subject::new("", "", [], &facts(arch))),
            ..PoolView::default()
        };
        self.state
            .apply(DispatchEvent::Pool(Box::new(view)), self.now);
        self.policy(number, supplier, price, supply);
    }

    fn policy(&mut self, number: u64, supplier: u64, price: u64, supply: Supply) {
        let care = ManagedPool {
            id: id(number),
            name: format!("pool-{number}"),
            supplier: id(supplier),
            supply,
            zone: TimeZone::UTC,
            price: Price(price),
            paused: false,
        };
        self.keeper.apply(Event::Pool(Box::new(care)), self.now);
    }

    fn submit(&mut self, requirement: &str, jobs: u64) {
        self.strands += 1;
        let strand: StrandId = id(self.strands);
        let key = StrandKey {
            requirement: requirement.to_owned(),
            ..StrandKey::default()
        };
        let project = "shore".to_owned();
        let event = DispatchEvent::Strand {
            id: strand,
            key,
            project,
        };
        self.state.apply(event, self.now);
        for _ in 0..jobs {
            self.fresh += 1;
            let event = DispatchEvent::Waits {
                job: id(self.fresh),
                strand,
                ready: self.now,
                since: self.now,
                number: self.fresh as i64,
                avoid: None,
            };
            self.state.apply(event, self.now);
        }
    }

    fn runner_view(
        &self,
        order: &Order,
        state: RunnerState,
        desired_state: DesiredState,
    ) -> RunnerView {
        RunnerView {
            id: order.runner,
            name: order.machine.to_string(),
            pool: order.pool,
            slots: 1,
            state,
            desired_state,
            subject: self
                .state
                .pool_view(order.pool)
                .and_then(|pool| pool.makes.clone())
                .unwrap_or_else(|| Subject::new("", "", [], &facts("arm64"))),
        }
    }

    fn runner(&mut self, order: &Order, state: RunnerState, desired_state: DesiredState) {
        let view = self.runner_view(order, state, desired_state);
        self.state
            .apply(DispatchEvent::Runner(Box::new(view)), self.now);
        if state == RunnerState::Retired {
            let id = order.runner;
            self.state.apply(DispatchEvent::RunnerGone { id }, self.now);
            self.keeper.apply(Event::Left(order.machine), self.now);
        }
    }

    fn machine(&mut self, order: &Order, ordered: Moment, event: Option<MachineEvent>) {
        let before = self.keeper.machine_view(order.machine).cloned();
        let Some(before) = before else { return };
        let state = match event {
            Some(event) => before.state.after(event).unwrap(),
            None => before.state,
        };
        let _ = ordered;
        let ended = (!state.exists()).then_some(self.now);
        let view = MachineView {
            state,
            ended,
            ..before
        };
        self.keeper.apply(Event::Machine(view), self.now);
    }

    /// Lets what is due happen, decides, and has the suppliers do what was decided.
    fn step(&mut self) -> CapacityPlan {
        self.let_machines_come_and_go();
        self.end_attempts();
        let now = self.now;
        let mut next = self.fresh;
        let plan = self.state.start(now, &mut || {
            next += 1;
            id(next)
        });
        for assignment in &plan.assignments {
            let end = now + self.length;
            self.attempts
                .insert(assignment.attempt, (assignment.job, assignment.runner, end));
            let used_up = self
                .there
                .values()
                .find(|thing| thing.order.runner == assignment.runner && thing.order.single_use);
            if let Some(order) = used_up.map(|thing| thing.order.clone()) {
                self.runner(&order, RunnerState::Available, DesiredState::Drain);
            }
        }
        let decided = self.keeper.decide(&mut self.state, now, &mut || {
            next += 2;
            (id(next), id(next + 1))
        });
        self.fresh = next + 1;
        let reasons = self.state.explain(now);
        if let Some(change) = reasons.last() {
            self.reasons.clone_from(&change.segments);
        }
        self.notes.extend(decided.notes.iter().cloned());
        self.carry_out(&decided);
        decided
    }

    fn let_machines_come_and_go(&mut self) {
        let due: Vec<MachineId> = self.there.keys().copied().collect();
        for machine in due {
            let thing = &self.there[&machine];
            let order = thing.order.clone();
            if thing.gone.is_some_and(|at| at <= self.now) {
                self.machine(
                    &order,
                    self.now,
                    Some(MachineEvent::Vanish { failed: false }),
                );
                self.runner(&order, RunnerState::Retired, DesiredState::Work);
                self.there.remove(&machine);
            } else if thing.ready.is_some_and(|at| at <= self.now) {
                self.there.get_mut(&machine).unwrap().ready = None;
                let coming = self.keeper.machine_view(machine);
                if coming.is_some_and(|view| view.state.is_coming()) {
                    self.machine(&order, self.now, Some(MachineEvent::Join));
                    self.runner(&order, RunnerState::Available, DesiredState::Work);
                    let (supplier, pool) = (order.supplier, order.pool);
                    let event = Event::Fine {
                        supplier,
                        pool,
                        joined: true,
                    };
                    self.keeper.apply(event, self.now);
                    let mut view = self.state.pool_view(pool).unwrap().clone();
                    if view.makes.is_none() {
                        view.makes = Some(Subject::new("", "", [], &facts("arm64")));
                        self.state
                            .apply(DispatchEvent::Pool(Box::new(view)), self.now);
                    }
                }
            }
        }
    }

    fn end_attempts(&mut self) {
        let over: Vec<AttemptId> = self
            .attempts
            .iter()
            .filter(|(_, (_, _, end))| *end <= self.now)
            .map(|(attempt, _)| *attempt)
            .collect();
        for attempt in over {
            let (_, runner, _) = self.attempts.remove(&attempt).unwrap();
            self.state
                .apply(DispatchEvent::Released { attempt }, self.now);
            self.done += 1;
            let used_up = self
                .there
                .values()
                .find(|thing| thing.order.runner == runner && thing.order.single_use);
            if let Some(order) = used_up.map(|thing| thing.order.clone()) {
                self.runner(&order, RunnerState::Retired, DesiredState::Drain);
            }
        }
    }

    /// Does what the suppliers do with a decision.
    fn carry_out(&mut self, decided: &CapacityPlan) {
        let now = self.now;
        for order in &decided.orders {
            match self.mood[&order.supplier] {
                Mood::Down => {
                    self.machine(order, now, Some(MachineEvent::Refuse));
                    let event = Event::Fault {
                        supplier: order.supplier,
                        pool: order.pool,
                        scope: Scope::Supplier,
                        message: "it does not answer".into(),
                        jitter: 0.5,
                        retry_after: None,
                    };
                    self.keeper.apply(event, now);
                }
                mood => {
                    self.machine(order, now, Some(MachineEvent::Accept));
                    let ready = (mood == Mood::Works).then_some(now + self.boot);
                    let thing = Thing {
                        order: order.clone(),
                        ready,
                        gone: None,
                    };
                    self.there.insert(order.machine, thing);
                }
            }
        }
        for release in &decided.releases {
            let gone = now + self.removal;
            match self.there.get_mut(&release.machine) {
                Some(thing) => {
                    thing.gone = Some(gone);
                    let order = thing.order.clone();
                    self.runner(&order, RunnerState::Retired, DesiredState::Drain);
                }
                None => panic!("{:?} was released and is not there", release.machine),
            }
        }
        for drain in &decided.drains {
            let order = self.there[&drain.machine].order.clone();
            self.runner(&order, RunnerState::Available, DesiredState::Drain);
        }
    }

    fn run(&mut self, seconds: u64) {
        for _ in 0..seconds {
            self.now = self.now + SECOND;
            let _ = self.step();
        }
    }

    /// The counts that are updated incrementally equal those of a keeper rebuilt from scratch.
    fn counts_hold(&mut self) {
        let mut fresh = Keeper::default();
        for maker in self.keeper.makers.values() {
            fresh.apply(Event::Supplier(maker.clone()), self.now);
        }
        for care in self.keeper.pools() {
            fresh.apply(Event::Pool(Box::new(care.clone())), self.now);
        }
        for machine in self.keeper.machines() {
            fresh.apply(Event::Machine(machine.clone()), self.now);
            let runner = self.state.runner_view(machine.runner);
            let known = self.there.contains_key(&machine.id);
            if runner.is_none() && known && machine.state == MachineState::Releasing {
                fresh.apply(Event::Left(machine.id), self.now);
            }
        }
        for keeper in [&mut self.keeper, &mut fresh] {
            let (pools, makers) = (&keeper.pools, &keeper.makers);
            keeper
                .fleet
                .refresh(&mut self.state, pools, makers, self.now);
        }
        for pool in fresh.pools.keys() {
            let counts = |keeper: &Keeper| {
                keeper.fleet.tally(*pool).map(|tally| {
                    (
                        tally.numbers,
                        tally.idle.clone(),
                        tally.coming.clone(),
                        tally.busy.clone(),
                    )
                })
            };
            assert_eq!(counts(&self.keeper), counts(&fresh));
        }
    }

    fn there_in(&self, pool: u64) -> usize {
        let mine = |thing: &&Thing| thing.order.pool == id(pool);
        self.there.values().filter(mine).count()
    }

    fn notes(&self, verb: &str) -> Vec<&str> {
        let notes = self.notes.iter().filter(|note| note.verb == verb);
        notes.map(|note| note.message.as_str()).collect()
    }
}

fn supply(ceiling: u32) -> Supply {
    Supply {
        supplier: "supplier-1".into(),
        ceiling,
        dwell_us: Micros::from(120 * SECOND),
        ..Supply::default()
    }
}

#[test]
fn a_burst_takes_a_pool_from_nothing_to_its_ceiling_and_back() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "arm64", 10, supply(4));
    assert!(world.step().is_empty());
    world.submit("arm64", 10);
    let decided = world.step();
    assert_eq!(decided.orders.len(), 4, "no polling: at once");
    assert_eq!(
        world.notes("order"),
        ["ordered 4: 4 waiting, no machine, ceiling 4"]
    );
    assert_eq!(
        world.reasons,
        [
            Segment {
                reason: Reason::MachineComing,
                jobs: Some(4)
            },
            Segment {
                reason: Reason::AllBusy,
                jobs: None
            }
        ]
    );
    world.run(31);
    assert_eq!(world.attempts.len(), 4);
    assert_eq!(
        world.reasons,
        [Segment {
            reason: Reason::AllBusy,
            jobs: None
        }]
    );
    world.run(400);
    assert_eq!(world.done, 10);
    assert_eq!(world.there_in(1), 0, "back to nothing after the dwell");
    assert!(
        world.notes("release")[0].ends_with("and not needed"),
        "{:?}",
        world.notes("release")
    );
    assert_eq!(world.notes("order").len(), 1);
}

#[test]
fn a_machine_is_not_idle_before_its_runner_can_take_work() {
    let mut world = World::new();
    world.maker(1, None);
    let dwell_us = Micros::from(2 * SECOND);
    let supply = Supply {
        ceiling: 1,
        dwell_us,
        ..Supply::default()
    };
    world.pool(1, 1, "arm64", 10, supply);
    world.submit("arm64", 2);
    world.mood.insert(id(1), Mood::Mute);
    let order = world.step().orders[0].clone();
    // Its record exists; it connects after longer than the dwell, and has a slot only a moment later.
    for (seconds, state, slots) in [
        (0, RunnerState::Awaited, 0),
        (30, RunnerState::Available, 0),
        (1, RunnerState::Available, 1),
    ] {
        world.now = world.now + seconds * SECOND;
        let mut view = world.runner_view(&order, state, DesiredState::Work);
        view.slots = slots;
        let event = DispatchEvent::Runner(Box::new(view));
        world.state.apply(event, world.now);
        let decided = world.step();
        assert_eq!(decided.releases, []);
    }
    assert_eq!(world.attempts.len(), 1);
}

#[test]
fn a_machine_is_not_ordered_twice_for_one_job() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "arm64", 10, supply(8));
    world.submit("arm64", 2);
    world.run(29);
    assert_eq!(world.there_in(1), 2);
    world.submit("arm64", 1);
    world.run(1);
    assert_eq!(world.there_in(1), 3, "what is coming is counted");
}

#[test]
fn demand_goes_to_the_cheapest_pool_that_satisfies_it() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "x86-64", 10, supply(2));
    world.pool(2, 1, "arm64", 5, supply(2));
    world.submit("arm64 or x86-64", 2);
    world.submit("arm64", 1);
    let decided = world.step();
    let count = |pool: u64| {
        decided
            .orders
            .iter()
            .filter(|one| one.pool == id(pool))
            .count()
    };
    assert_eq!((count(1), count(2)), (1, 2), "all three are served");
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "x86-64", 10, supply(9));
    world.pool(2, 1, "arm64", 5, supply(9));
    world.submit("arm64 or x86-64", 3);
    let decided = world.step();
    assert!(
        decided.orders.iter().all(|one| one.pool == id(2)),
        "cheaper"
    );
}

#[test]
fn a_failing_supplier_is_backed_off_and_another_serves_meanwhile() {
    let mut world = World::new();
    world.maker(1, None);
    world.maker(2, None);
    world.pool(1, 1, "arm64", 5, supply(4));
    world.pool(2, 2, "arm64", 50, supply(4));
    world.mood.insert(id(1), Mood::Down);
    world.submit("arm64", 3);
    let decided = world.step();
    assert_eq!(decided.orders.len(), 3);
    assert!(decided.orders.iter().all(|one| one.pool == id(1)));
    let decided = world.step();
    assert!(
        decided.orders.iter().all(|one| one.pool == id(2)),
        "falls to the next"
    );
    assert_eq!(decided.orders.len(), 3);
    world.run(600);
    assert_eq!(world.done, 3);
    let before = world.notes("order").len();
    world.submit("arm64", 1);
    world.mood.insert(id(1), Mood::Works);
    world.run(400);
    assert_eq!(world.done, 4);
    assert!(world.notes("order").len() > before);
    assert!(world.notes("hold-back")[0].contains("supplier-1 fails: it does not answer"));
}

#[test]
fn a_failing_only_supplier_is_the_reason_of_the_waiting_jobs() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "arm64", 5, supply(4));
    world.mood.insert(id(1), Mood::Down);
    world.submit("arm64", 3);
    let _ = world.step();
    let _ = world.step();
    assert_eq!(world.reasons[0].reason, Reason::SupplyShort);
    let standing = world.state.standing(id(1)).unwrap();
    assert_eq!(
        standing.describe(Reason::SupplyShort),
        "no machine can be added: pool-1: supplier-1 fails: it does not answer"
    );
    world.run(600);
    let tries = world.notes("order").len();
    assert!((4..12).contains(&tries), "{tries} tries in ten minutes");
}

#[test]
fn machines_that_never_join_fail_and_their_pool_backs_off() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "arm64", 5, supply(4));
    world.mood.insert(id(1), Mood::Mute);
    world.submit("arm64", 2);
    world.run(302);
    assert_eq!(
        world.notes("give-up"),
        ["gave up 2: its runner did not connect within 5 min"]
    );
    world.mood.insert(id(1), Mood::Works);
    world.run(200);
    assert_eq!(world.done, 2);
}

#[test]
fn the_quota_of_a_supplier_is_shared_by_its_pools() {
    let mut world = World::new();
    world.maker(1, Some(3));
    world.pool(1, 1, "arm64", 5, supply(9));
    world.pool(2, 1, "x86-64", 5, supply(9));
    world.submit("arm64", 2);
    world.submit("x86-64", 4);
    world.run(5);
    assert_eq!(world.there.len(), 3);
    assert_eq!(
        world.notes("hold-back")[0],
        "ordering paused: supplier-1 has a quota of 3 machines"
    );
}

#[test]
fn a_spent_budget_overrides_the_floor_with_a_reason() {
    let mut world = World::new();
    world.maker(1, None);
    // One machine costs 60 an hour, one a minute.
    let mut policy = supply(3);
    policy.floor = 2;
    policy.budget.day = Some(Money(30_000_000));
    world.pool(1, 1, "arm64", 60_000_000, policy);
    world.run(60);
    assert_eq!(world.there_in(1), 2);
    world.submit("arm64", 3);
    world.run(3);
    assert_eq!(
        world.there_in(1),
        2,
        "three would use up in ten minutes what is left"
    );
    world.run(20 * 60);
    assert_eq!(world.there_in(1), 0);
    assert_eq!(world.done, 3);
    let (day, _) = world.keeper.spent(id(1), world.now);
    assert!((30_000_000..30_500_000).contains(&day.0), "{day}");
    let held = world.notes("hold-back");
    assert!(
        held.last()
            .unwrap()
            .contains("today's budget (30.00) is spent"),
        "{held:?}"
    );
}

#[test]
fn a_new_pool_orders_one_probe_machine() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "", 5, supply(4));
    let decided = world.step();
    assert_eq!(decided.orders.len(), 1);
    assert_eq!(
        world.notes("probe"),
        ["ordered 1 probe machine to discover the pool's facts"]
    );
    world.submit("arm64", 2);
    world.run(29);
    assert_eq!(
        world.there_in(1),
        1,
        "it is not known yet what it would make"
    );
    world.run(200);
    assert_eq!(world.done, 2);
}

#[test]
fn a_single_use_machine_is_replaced_when_its_job_begins_and_goes_when_it_ends() {
    let mut world = World::new();
    world.maker(1, None);
    let policy = Supply {
        single_use: true,
        floor: 1,
        ..supply(3)
    };
    world.pool(1, 1, "arm64", 5, policy);
    world.run(40);
    assert_eq!(world.there_in(1), 1);
    world.submit("arm64", 1);
    world.run(1);
    assert_eq!(world.attempts.len(), 1);
    world.run(1);
    assert_eq!(world.there_in(1), 2, "its successor is on its way");
    world.run(70);
    assert_eq!(world.there_in(1), 1, "the first is gone");
    assert_eq!(world.notes("release"), ["released 1: its job is finished"]);
}

#[test]
fn a_lower_ceiling_releases_idle_machines_and_lets_busy_ones_finish() {
    let mut world = World::new();
    world.maker(1, None);
    world.pool(1, 1, "arm64", 5, supply(4));
    world.submit("arm64", 4);
    world.run(40);
    assert_eq!(world.attempts.len(), 4);
    world.policy(1, 1, 5, supply(1));
    world.run(10);
    assert_eq!(world.attempts.len(), 4, "nothing is killed");
    world.run(70);
    assert_eq!(world.done, 4);
    assert_eq!(world.there_in(1), 1);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 32, ..ProptestConfig::default() })]

    /// Random demand, prices, policies and faults over simulated hours. What must always hold is checked at every step.
    #[test]
    fn never_above_the_ceiling_never_back_and_forth_and_no_job_is_lost(
        ceilings in proptest::collection::vec((0u32..6, 0u32..3, 0u32..2, any::<bool>()), 1..4),
        quota in proptest::option::of(1u32..8),
        steps in proptest::collection::vec((1u64..60, 0u8..12, 0u64..6), 1..40),
    ) {
        let mut world = World::new();
        world.length = 20 * SECOND;
        world.boot = 10 * SECOND;
        world.maker(1, quota);
        world.maker(2, None);
        let mut policies = Vec::new();
        for (at, (ceiling, floor, spare, single_use)) in ceilings.iter().enumerate() {
            let policy = Supply { floor: *floor, spare: *spare, single_use: *single_use, ..supply(*ceiling) };
            let arch = ["arm64", "x86-64", "riscv64"][at % 3];
            let supplier = 1 + (at as u64 % 2);
            world.pool(at as u64 + 1, supplier, arch, 5 + at as u64, policy.clone());
            policies.push((supplier, policy));
        }
        let mut submitted = 0;
        let mut script: Vec<(u64, u8, u64)> = steps;
        // In the end everything works, for long enough to finish.
        script.push((0, 9, 0));
        script.push((0, 10, 0));
        script.push((9000, 11, 0));
        for (seconds, what, number) in script {
            match what {
                0..=4 => {
                    let words = ["arm64", "x86-64 or arm64", "x86-64", "arm64", "arm64 or x86-64 or riscv64"];
                    // Only what some pool can make.
                    let able = policies.iter().enumerate().any(|(at, (_, policy))| {
                        policy.ceiling > 0 && words[what as usize].contains(["arm64", "x86-64", "riscv64"][at % 3])
                    });
                    if able {
                        world.submit(words[what as usize], number);
                        submitted += number as usize;
                    }
                }
                5 => { world.mood.insert(id(1), Mood::Down); }
                6 => { world.mood.insert(id(2), Mood::Down); }
                7 => { world.mood.insert(id(1), Mood::Mute); }
                8 => {
                    // A machine vanishes under whatever it did; its job waits again elsewhere.
                    let victim = world.there.values().find(|thing| thing.gone.is_none()).map(|thing| thing.order.clone());
                    if let Some(order) = victim {
                        world.there.remove(&order.machine);
                        world.machine(&order, world.now, Some(MachineEvent::Vanish { failed: false }));
                        let lost: Vec<AttemptId> = world.attempts.iter()
                            .filter(|(_, (_, runner, _))| *runner == order.runner).map(|(attempt, _)| *attempt).collect();
                        world.runner(&order, RunnerState::Retired, DesiredState::Work);
                        for attempt in lost {
                            world.attempts.remove(&attempt);
                            world.state.apply(DispatchEvent::Released { attempt }, world.now);
                            world.done += 1;
                        }
                    }
                }
                9 => { world.mood.insert(id(1), Mood::Works); }
                10 => { world.mood.insert(id(2), Mood::Works); }
                _ => {}
            }
            let mut quiet = 0;
            for _ in 0..seconds {
                world.now = world.now + SECOND;
                let decided = world.step();
                // What waits for its time alone does so within ten minutes.
                world.counts_hold();
                quiet = if world.state.waiting() + world.attempts.len() == 0 && decided.is_empty() { quiet + 1 } else { 0 };
                if quiet > 600 {
                    break;
                }
                for (at, (_, policy)) in policies.iter().enumerate() {
                    let pool: PoolId = id(at as u64 + 1);
                    let there = world.there_in(at as u64 + 1);
                    prop_assert!(there <= policy.ceiling as usize, "{there} in {pool:?}, ceiling {}", policy.ceiling);
                    let orders = decided.orders.iter().any(|one| one.pool == pool);
                    let released = decided.notes.iter()
                        .any(|note| note.pool == pool && note.verb == "release" && note.message.ends_with("not needed"));
                    prop_assert!(!(orders && released), "ordered and released at once: {:?}", decided.notes);
                }
                if let Some(quota) = quota {
                    let of = world.there.values().filter(|thing| thing.order.supplier == id(1)).count();
                    prop_assert!(of <= quota as usize);
                }
            }
        }
        let reachable = policies.iter().all(|(supplier, _)| *supplier != 1 || quota.is_none_or(|quota| quota as usize >= policies.len()));
        if reachable {
            prop_assert_eq!(world.done, submitted, "waiting {} used {} attempts {:?}", world.state.waiting(), world.state.used(), world.attempts);
        }
        // What is left is what the policies ask for, and nothing more happens.
        let seen: Vec<MachineState> = world.keeper.machines().map(|machine| machine.state).collect();
        prop_assert_eq!(seen.len(), world.there.len());
        let expected = |policy: &Supply| policy.floor.max(policy.spare).min(policy.ceiling);
        let of_first: u32 = policies.iter().filter(|(supplier, _)| *supplier == 1).map(|(_, policy)| expected(policy)).sum();
        let enough = quota.is_none_or(|quota| quota >= of_first);
        for (at, (supplier, policy)) in policies.iter().enumerate() {
            // Pools that share less than they all want get what there is of it, in whatever way.
            if reachable && (*supplier != 1 || enough) {
                prop_assert_eq!(world.there_in(at as u64 + 1), expected(policy) as usize, "pool {}", at + 1);
            }
        }
        if let Some(quota) = quota.filter(|_| reachable && !enough) {
            let of = world.there.values().filter(|thing| thing.order.supplier == id(1)).count();
            prop_assert_eq!(of, quota as usize, "the quota is used whole");
        }
        world.now = world.now + SECOND;
        prop_assert!(world.step().is_empty());
    }
}
