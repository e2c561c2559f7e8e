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
use pennine_core::capacity::{Event, Keeper, MachineView, Maker, PoolCare, Supply};
use pennine_core::dispatch::{
    Event as DispatchEvent, PoolView, Price, RunnerView, State, StrandKey,
};
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

fn yard(now: Moment) -> (State, Keeper) {
    let (mut state, mut keeper) = (State::default(), Keeper::default());
    for maker in 1..=3 {
        let maker = Maker {
            id: id(maker),
            name: format!("supplier-{maker}"),
            quota: Some(20_000),
            boot_limit: Duration::from_secs(300),
        };
        keeper.apply(Event::Maker(maker), now);
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
        state.apply(DispatchEvent::Pool(Box::new(view)), now);
        let care = PoolCare {
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
        keeper.apply(Event::Pool(Box::new(care)), now);
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
        state.apply(event, now);
    }
    (state, keeper)
}

fn submit(state: &mut State, job: u64, now: Moment) {
    let event = DispatchEvent::Waits {
        job: id(1_000_000 + job),
        strand: id(1 + job % 200),
        ready: now,
        number: job as i64,
        avoid: None,
    };
    state.apply(event, now);
}

fn decide(
    state: &mut State,
    keeper: &mut Keeper,
    next: &mut u64,
    now: Moment,
) -> (Duration, usize) {
    let begun = Instant::now();
    let mut plan = state.start(now, &mut || {
        *next += 1;
        id::<AttemptId>(*next)
    });
    let decided = keeper.decide(state, now, &mut || {
        *next += 2;
        (id::<MachineId>(*next), id::<RunnerId>(*next + 1))
    });
    state.explain(now, &mut plan);
    (begun.elapsed(), decided.orders.len())
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
        let (mut state, mut keeper) = yard(now);
        let mut next = 10_000_000;
        let _ = decide(&mut state, &mut keeper, &mut next, now);
        for job in 0..JOBS {
            submit(&mut state, job, now);
        }
        let (took, orders) = decide(&mut state, &mut keeper, &mut next, now);
        assert_eq!(orders as u64, JOBS, "a machine for each job");
        bursts.push(took);
    }
    told("a burst of 1,000 jobs over 20 pools", bursts);

    // 5,000 machines that have joined and are busy, and one job more at a time.
    let (mut state, mut keeper) = yard(now);
    let mut next = 10_000_000;
    for machine in 0..MACHINES {
        let pool = 1 + machine % POOLS;
        let view = RunnerView {
            id: id(2_000_000 + machine),
            name: format!("m-{machine}"),
            pool: id(pool),
            slots: 1,
            state: RunnerState::Available,
            wish: DesiredState::Work,
            subject: subject(pool),
        };
        state.apply(DispatchEvent::Runner(Box::new(view)), now);
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
        keeper.apply(Event::Machine(view), now);
    }
    for job in 0..MACHINES {
        submit(&mut state, job, now);
    }
    let _ = decide(&mut state, &mut keeper, &mut next, now);
    let mut events = Vec::new();
    for job in 0..400 {
        submit(&mut state, MACHINES + job, now);
        let (took, _) = decide(&mut state, &mut keeper, &mut next, now);
        events.push(took);
    }
    told("one job more, beside 5,000 machines", events);
}
