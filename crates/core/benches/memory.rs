//! How much memory the engine takes while a million jobs go through it: 900,000 on standing runners, 100,000 each on a
//! single-use machine of its own, with a host and a disk like no other; 100,000 strands, each used for some minutes.
//!
//! `cargo bench -p pennine-core --bench memory`

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use jiff::tz::TimeZone;
use pennine_core::capacity::{self, ManagedPool, Order, SupplierView, Supply};
use pennine_core::dispatch::{Assignment, Event, PoolView, Price, RunnerView, StrandKey};
use pennine_core::engine::{self, Engine, Settlement};
use pennine_core::fact::{FactValue, Facts, Subject};
use pennine_core::id::{JobId, PoolId, RunnerId, StrandId, SupplierId};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::simulate::{OrderResult, SimulationEvent, World, simulate};
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use std::time::{Duration, Instant};
use uuid::Uuid;

const JOBS: u64 = 1_000_000;
const STANDING: u64 = 400;
/// One job in this many asks for a single-use machine.
const SINGLE_USE: u64 = 10;
/// Jobs of one strand.
const PER_STRAND: u64 = 20;
const BEGIN: Moment = Moment::from_micros(1_795_415_517_000_000);

fn id<T: From<Uuid>>(number: u64) -> T {
    T::from(Uuid::from_u128(u128::from(number) + 1))
}

/// Memory of this process that is resident, in KiB.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("Linux");
    let line = status.lines().find(|line| line.starts_with("RssAnon:"));
    let figure = line.and_then(|line| line.split_whitespace().nth(1));
    figure
        .and_then(|figure| figure.parse().ok())
        .expect("a figure")
}

fn subject(name: &str, label: &str, disk: u64) -> Subject {
    let facts = Facts::from([
        ("host".to_owned(), FactValue::Text(name.to_owned())),
        ("disk".to_owned(), FactValue::size(ByteSize(disk))),
    ]);
    Subject::new(name, label, [label], &facts)
}

fn runner(id: RunnerId, pool: PoolId, subject: Subject) -> RunnerView {
    RunnerView {
        id,
        name: id.to_string(),
        pool,
        slots: 1,
        state: RunnerState::Available,
        desired_state: DesiredState::Work,
        subject,
    }
}

struct Flood {
    number: u64,
    machines: u64,
    begun: Instant,
    message: u64,
}

impl World for Flood {
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)> {
        if self.number >= JOBS {
            return None;
        }
        let number = self.number;
        self.number += 1;
        let ready = BEGIN + Duration::from_millis(80 * number);
        // Strands of either pool in turn.
        let kind = u64::from(number.is_multiple_of(SINGLE_USE));
        let waits = Event::Waits {
            job: id::<JobId>(number),
            strand: id::<StrandId>(number / PER_STRAND * 2 + kind),
            ready,
            since: ready,
            number: number as i64,
            avoid: None,
        };
        Some((ready, vec![waits.into()]))
    }

    fn strand(&mut self, strand: StrandId) -> Option<Event> {
        let number = u64::try_from(strand.0.as_u128() - 1).unwrap_or(0);
        let label = if number.is_multiple_of(2) {
            "standing"
        } else {
            "single"
        };
        Some(Event::Strand {
            id: strand,
            key: StrandKey {
                requirement: format!("{label} and disk >= {}KiB", number / 100),
                ..StrandKey::default()
            },
            project: format!("team-{}/project-{}", number % 7, number % 40),
        })
    }

    fn started(&mut self, _: &Assignment, _: Moment) -> Duration {
        Duration::from_secs(25)
    }

    fn ordered(&mut self, order: &Order, _: Moment) -> OrderResult {
        self.machines += 1;
        let name = format!("host-{}", self.machines);
        let subject = subject(&name, "single", (1 << 40) + self.machines);
        OrderResult::Boots {
            after: Duration::from_secs(15),
            runner: Box::new(runner(order.runner, order.pool, subject)),
        }
    }

    fn settled(&mut self, _: &Settlement, at: Moment) {
        let tenth = self.number * 10 / JOBS;
        if self.number > 0 && tenth > self.message {
            self.message = tenth;
            println!(
                "{:>9} jobs, {:>7} machines made, {:>5.1} h of made-up time, {:>4.0} s: {:>7} KiB",
                self.number,
                self.machines,
                at.since(BEGIN).as_secs_f64() / 3600.0,
                self.begun.elapsed().as_secs_f64(),
                resident()
            );
        }
    }
}

fn main() {
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    let mut engine = Engine::default();
    let maker = SupplierView {
        id: id::<SupplierId>(0),
        name: "chandler".into(),
        quota: None,
        boot_limit: Duration::from_secs(300),
    };
    engine.apply(capacity::Event::Supplier(maker), BEGIN);
    let pool = |number: u64, label: &str, single_use: bool| engine::Event::Pool {
        view: Box::new(PoolView {
            id: id::<PoolId>(number),
            name: label.to_owned(),
            open: true,
            makes: single_use.then(|| subject("", "single", 1 << 40)),
            ..PoolView::default()
        }),
        policy: single_use.then(|| {
            Box::new(ManagedPool {
                id: id::<PoolId>(number),
                name: label.to_owned(),
                supplier: id::<SupplierId>(0),
                supply: Supply {
                    ceiling: 500,
                    single_use,
                    ..Supply::default()
                },
                zone: TimeZone::UTC,
                price: Price(100),
                paused: false,
            })
        }),
    };
    engine.apply(pool(0, "standing", false), BEGIN);
    engine.apply(pool(1, "single", true), BEGIN);
    for number in 0..STANDING {
        let subject = subject(&format!("fell-{number}"), "standing", 1 << 40);
        let view = runner(id::<RunnerId>(number), id::<PoolId>(0), subject);
        engine.apply(Event::Runner(Box::new(view)), BEGIN);
    }
    println!("at the beginning: {} KiB", resident());
    let mut flood = Flood {
        number: 0,
        machines: 0,
        begun: Instant::now(),
        message: 0,
    };
    let run = simulate(&mut engine, &mut flood, Moment::from_micros(i64::MAX)).expect("consistent");
    assert_eq!((run.started, run.ended), (JOBS, JOBS));
    println!("{run:?}");
}
