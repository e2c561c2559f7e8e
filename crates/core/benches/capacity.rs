//! How long a decision takes: a burst over many pools, and one event beside thousands of machines.
//!
//! `cargo bench -p pennine-core --bench capacity`

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use jiff::tz::TimeZone;
use pennine_core::capacity::{Event, Keeper, MachineView, ManagedPool, SupplierView, Supply};
use pennine_core::dispatch::{
    Event as DispatchEvent, PoolView, Price, RunnerView, State, StrandKey,
};
use pennine_core::engine::{Engine, Event as PoolEvent, Ids};
use pennine_core::fact::{FactValue, Facts, Subject};
use pennine_core::id::{AttemptId, MachineId, RunnerId};
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::time::Moment;
use std::time::{Duration, Instant};
use uuid::Uuid;

const POOLS: u64 = 20;
const JOBS: u64 = 1_000;
const MACHINES: u64 = 5_000;

fn id<T: From<Uuid>>(number: u64) -> T {
    T::from(Uuid::from_u128(u128::from(number)))
}

fn subject(pool: u64) -> Subject {
    let facts = Facts::from([("os".to_owned(), FactValue::Text("linux".into()))]);
    let kind = format!("kind-{pool}");
    let either = format!("group-{}", pool / 4);
    Subject::new("", "", [kind.as_str(), either.as_str()], &facts)
}

fn yard(now: Moment) -> Engine {
    let mut engine = Engine::new(State::default(), Keeper::default(), now);
    for maker in 1..=3 {
        let maker = SupplierView {
            id: id(maker),
            name: format!("supplier-{maker}"),
            quota: Some(20_000),
            boot_limit: Duration::from_secs(300),
        };
        engine.apply(Event::Supplier(maker), now);
    }
    for pool in 1..=POOLS {
        let view = PoolView {
            id: id(pool),
            name: format!("pool-{pool}"),
            open: true,
            price: Price(100 + pool),
            makes: Some(subject(pool)),
            ..PoolView::default()
        };
        let care = ManagedPool {
            id: id(pool),
            name: format!("pool-{pool}"),
            supplier: id(1 + pool % 3),
            supply: Supply {
                ceiling: 1_000,
                ..Supply::default()
            },
            zone: TimeZone::UTC,
            price: Price(100 + pool),
            paused: false,
        };
        let pool = PoolEvent::Pool {
            view: Box::new(view),
            policy: Some(Box::new(care)),
        };
        engine.apply(pool, now);
    }
    // Each asks for one kind, or for any of four.
    for strand in 1..=200 {
        let requirement = if strand % 2 == 0 {
            format!("kind-{}", 1 + strand % POOLS)
        } else {
            format!("linux and group-{}", strand % 5)
        };
        let key = StrandKey {
            requirement,
            ..StrandKey::default()
        };
        let event = DispatchEvent::Strand {
            id: id(strand),
            key,
            project: format!("team-{}/project", strand % 50),
        };
        engine.apply(event, now);
    }
    engine
}

fn submit(engine: &mut Engine, job: u64, now: Moment) {
    let event = DispatchEvent::Waits {
        job: id(1_000_000 + job),
        strand: id(1 + job % 200),
        ready: now,
        since: now,
        number: job as i64,
        avoid: None,
    };
    engine.apply(event, now);
}

struct Numbers(u64);

impl Numbers {
    fn next<T: From<Uuid>>(&mut self) -> T {
        self.0 += 1;
        id(self.0)
    }
}

impl Ids for Numbers {
    fn attempt(&mut self) -> AttemptId {
        self.next()
    }

    fn machine(&mut self) -> (MachineId, RunnerId) {
        (self.next(), self.next())
    }
}

/// All stages after an event, and how many machines were ordered.
fn decide(engine: &mut Engine, ids: &mut Numbers, now: Moment) -> (Duration, usize) {
    let begun = Instant::now();
    let _ = engine.assign(now, ids);
    let settlement = engine.settle(now, ids);
    (begun.elapsed(), settlement.decided.orders.len())
}

fn told(name: &str, mut times: Vec<Duration>) {
    times.sort();
    let at = |share: f64| {
        times[((times.len() as f64 * share).ceil() as usize).clamp(1, times.len()) - 1]
    };
    println!(
        "{name:44} p50 {:>9.3} ms   p99 {:>9.3} ms   worst {:>9.3} ms",
        at(0.5).as_secs_f64() * 1e3,
        at(0.99).as_secs_f64() * 1e3,
        at(1.0).as_secs_f64() * 1e3
    );
}

fn main() {
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    let now = Moment::from_micros(1_795_415_517_000_000);
    let mut bursts = Vec::new();
    for _ in 0..30 {
        let mut engine = yard(now);
        let mut ids = Numbers(10_000_000);
        let _ = decide(&mut engine, &mut ids, now);
        for job in 0..JOBS {
            submit(&mut engine, job, now);
        }
        let (took, orders) = decide(&mut engine, &mut ids, now);
        assert_eq!(orders as u64, JOBS, "a machine for each job");
        bursts.push(took);
    }
    told("a burst of 1,000 jobs over 20 pools", bursts);
    beside_machines(now);
}

fn runner(machine: u64) -> RunnerView {
    let pool = 1 + machine % POOLS;
    RunnerView {
        id: id(2_000_000 + machine),
        name: format!("m-{machine}"),
        pool: id(pool),
        slots: 1,
        state: RunnerState::Available,
        desired_state: DesiredState::Work,
        subject: subject(pool),
    }
}

/// 5,000 machines that have joined, and one event at a time.
fn beside_machines(mut now: Moment) {
    let mut engine = yard(now);
    let mut ids = Numbers(10_000_000);
    for machine in 0..MACHINES {
        engine.apply(DispatchEvent::Runner(Box::new(runner(machine))), now);
        let pool = 1 + machine % POOLS;
        let view = MachineView {
            id: id(3_000_000 + machine),
            pool: id(pool),
            supplier: id(1 + pool % 3),
            state: MachineState::Joined,
            runner: id(2_000_000 + machine),
            price: Price(100),
            ordered: now,
            single_use: false,
            ended: None,
        };
        engine.apply(Event::Machine(view), now);
    }
    let _ = engine.settle(now, &mut ids);
    let mut times = Vec::new();
    let mut running: Vec<AttemptId> = Vec::new();
    let mut number = 0;
    // Half of the machines are busy: a job comes, starts, and another ends.
    for _ in 0..MACHINES / 2 {
        submit(&mut engine, number, now);
        number += 1;
        running.extend(engine.assign(now, &mut ids).iter().map(|one| one.attempt));
    }
    let _ = engine.settle(now, &mut ids);
    for at in 0..2_000 {
        now = now + Duration::from_millis(3);
        let begun = Instant::now();
        submit(&mut engine, number, now);
        let attempt = running[at];
        engine.apply(DispatchEvent::Released { attempt }, now);
        running.extend(engine.assign(now, &mut ids).iter().map(|one| one.attempt));
        let _ = engine.settle(now, &mut ids);
        times.push(begun.elapsed());
        number += 1;
    }
    told("a job starts and another ends, machines idle", times);
    let mut times = Vec::new();
    for at in 0..1_000 {
        now = now + Duration::from_millis(3);
        let mut view = runner(at * 3 % MACHINES);
        view.state = if at % 2 == 0 {
            RunnerState::Offline
        } else {
            RunnerState::Available
        };
        let begun = Instant::now();
        engine.apply(DispatchEvent::Runner(Box::new(view)), now);
        let _ = engine.assign(now, &mut ids);
        let _ = engine.settle(now, &mut ids);
        times.push(begun.elapsed());
    }
    told("a runner goes offline or reconnects", times);
    for _ in 0..MACHINES {
        submit(&mut engine, number, now);
        number += 1;
    }
    let _ = decide(&mut engine, &mut ids, now);
    let mut times = Vec::new();
    for _ in 0..400 {
        now = now + Duration::from_millis(3);
        submit(&mut engine, number, now);
        number += 1;
        times.push(decide(&mut engine, &mut ids, now).0);
    }
    told("one job more, all busy, hundreds coming", times);
}
