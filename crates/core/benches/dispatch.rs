//! How long dispatch takes for each kind of event, against the goals in docs/benchmarks.md.
//!
//! The yard: 10,000 runners in 40 pools and 200 distinct requirements; 100,000 jobs wait, of 50 teams and 250 projects.
//! A tenth of the requirements name one runner by name. Percentiles are taken over single events, each a call of
//! `apply` and the `plan` after it; criterion times the whole rebuild and the simulation loop.

// A benchmark that cannot go on ends.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::indexing_slicing)]

use criterion::{BatchSize, Criterion, Throughput};
use hdrhistogram::Histogram;
use pennine_core::capacity::Keeper;
use pennine_core::dispatch::{Assignment, Band, Event, PoolView, RunnerView, State, StrandKey};
use pennine_core::engine::Engine;
use pennine_core::fact::{FactValue, Facts, Subject};
use pennine_core::id::{AttemptId, JobId, PlaceId, PoolId, RunnerId, StrandId};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::simulate::{SimulationEvent, World, simulate};
use pennine_core::time::Moment;
use std::time::{Duration, Instant};
use uuid::Uuid;

const RUNNERS: usize = 10_000;
const POOLS: usize = 40;
const REQUIREMENTS: usize = 200;
const TEAMS: usize = 50;
const PROJECTS: usize = 250;

fn id(n: usize) -> Uuid {
    Uuid::from_u128(n as u128 + 1)
}

/// A small generator with a fixed seed (splitmix64, by Sebastiano Vigna).
struct Lots(u64);

impl Lots {
    fn draw(&mut self, below: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) % below as u64) as usize
    }
}

fn requirement(n: usize) -> String {
    let text = match n % 10 {
        0 => format!("runner = \"fell-{:05}\"", n * 37 % RUNNERS),
        1..=3 => format!("kind{} and cores >= {}", n % 20, 2 + n % 6),
        4..=6 => format!("kind{} and gcc >= {}", n % 20, 9 + n / 20),
        7 => format!("not kind{} and mem >= {}GiB", n % 20, 4 + n / 8),
        _ => format!("kind{} or kind{}", n % 20, n / 10 % 20),
    };
    text.parse::<pennine_core::requirement::Requirement>()
        .expect("a requirement")
        .to_string()
}

fn project(n: usize) -> String {
    format!("team-{:02}/project-{n:03}", n % TEAMS)
}

fn runner(n: usize, label: usize) -> RunnerView {
    let pool = n % POOLS;
    let kind = format!("kind{}", label % 20);
    let facts = Facts::from([
        ("os".to_owned(), FactValue::Text("linux".into())),
        (
            "cores".to_owned(),
            FactValue::Count(2 + (pool % 4) as u64 * 2),
        ),
        (
            "mem".to_owned(),
            FactValue::Text(format!("{}GiB", 8 << (pool % 3))),
        ),
        (
            "gcc".to_owned(),
            FactValue::Text(format!("{}.2.0", 9 + pool % 8)),
        ),
        ("host".to_owned(), FactValue::Text(format!("host-{n}"))),
    ]);
    let name = format!("fell-{n:05}");
    RunnerView {
        id: RunnerId(id(n)),
        subject: Subject::new(&name, &format!("pool-{pool}"), [kind.as_str()], &facts),
        name,
        pool: PoolId(id(pool)),
        slots: 1,
        state: RunnerState::Available,
        desired_state: DesiredState::Work,
    }
}

fn pool(n: usize, paused: bool) -> PoolView {
    PoolView {
        id: PoolId(id(n)),
        name: format!("pool-{n}"),
        open: true,
        paused,
        ..PoolView::default()
    }
}

struct Yard {
    state: State,
    strands: usize,
    jobs: usize,
    attempts: usize,
    held: Vec<(AttemptId, RunnerId)>,
    now: Moment,
    lots: Lots,
}

impl Yard {
    fn key(strand: usize, strands: usize) -> (usize, usize) {
        // With as many strands as there are pairs, each pair once; with fewer, spread over all of both.
        let owner = match strands {
            REQUIREMENTS.. if strands >= REQUIREMENTS * PROJECTS => strand / REQUIREMENTS,
            _ => strand * 7,
        };
        (strand % REQUIREMENTS, owner % PROJECTS)
    }

    /// Every slot is held, and jobs wait.
    fn full(strands: usize, waiting: usize) -> Yard {
        let mut yard = Yard {
            state: State::default(),
            strands,
            jobs: 0,
            attempts: 0,
            held: Vec::new(),
            now: Moment::from_micros(1_700_000_000_000_000),
            lots: Lots(7),
        };
        for n in 0..POOLS {
            yard.apply(Event::Pool(Box::new(pool(n, false))));
        }
        for n in 0..RUNNERS {
            yard.apply(Event::Runner(Box::new(runner(n, n / POOLS))));
        }
        for strand in 0..strands {
            let (wanted, owner) = Yard::key(strand, strands);
            yard.apply(Event::Strand {
                id: StrandId(id(strand)),
                key: StrandKey {
                    requirement: requirement(wanted),
                    project: PlaceId(id(owner)),
                    band: Band::Normal,
                    ..StrandKey::default()
                },
                project: project(owner),
            });
        }
        for n in 0..RUNNERS {
            let (attempt, runner) = (AttemptId(id(n)), RunnerId(id(n)));
            let strand = StrandId(id(yard.lots.draw(strands)));
            yard.apply(Event::Holds {
                attempt,
                job: JobId(id(usize::MAX - n)),
                runner,
                strand,
                since: yard.now,
            });
            yard.held.push((attempt, runner));
        }
        yard.attempts = RUNNERS;
        for _ in 0..waiting {
            yard.submit();
        }
        yard.plan();
        yard
    }

    fn apply(&mut self, event: Event) {
        self.state.apply(event, self.now);
    }

    fn submit(&mut self) {
        let strand = StrandId(id(self.lots.draw(self.strands)));
        self.jobs += 1;
        let job = JobId(id(self.jobs));
        let (ready, number) = (self.now, self.jobs as i64);
        self.apply(Event::Waits {
            job,
            strand,
            ready,
            since: ready,
            number,
            avoid: None,
        });
    }

    fn plan(&mut self) -> usize {
        let attempts = &mut self.attempts;
        let plan = self.state.plan(self.now, &mut || {
            *attempts += 1;
            AttemptId(id(*attempts))
        });
        let held = |one: &Assignment| (one.attempt, one.runner);
        self.held.extend(plan.assignments.iter().map(held));
        plan.assignments.len()
    }

    fn release(&mut self) {
        let at = self.lots.draw(self.held.len());
        let (attempt, _) = self.held.swap_remove(at);
        self.apply(Event::Released { attempt });
    }

    /// Times single events of a kind, each with the plan after it.
    fn time(&mut self, events: usize, mut event: impl FnMut(&mut Yard, usize)) -> Histogram<u64> {
        let mut times = Histogram::new_with_bounds(1, 60_000_000_000, 3).expect("a histogram");
        for n in 0..events {
            self.now = self.now + Duration::from_micros(500);
            let begun = Instant::now();
            event(self, n);
            self.plan();
            times.saturating_record(begun.elapsed().as_nanos() as u64);
        }
        times
    }
}

fn report(shape: &str, what: &str, times: &Histogram<u64>) {
    let micros = |nanos: u64| nanos as f64 / 1e3;
    println!(
        "{shape:28} {what:22} p50 {:>9.1} us   p99 {:>9.1} us   worst {:>9.1} us   ({} events)",
        micros(times.value_at_quantile(0.5)),
        micros(times.value_at_quantile(0.99)),
        micros(times.max()),
        times.len()
    );
}

fn single_events() {
    for (strands, waiting) in [
        (1_000, 1_000),
        (1_000, 100_000),
        (1_000, 1_000_000),
        (50_000, 100_000),
        (50_000, 1_000_000),
    ] {
        let shape = format!("{strands} strands, {waiting} wait");
        let mut yard = Yard::full(strands, waiting);
        report(
            &shape,
            "job arrives",
            &yard.time(5_000, |yard, _| yard.submit()),
        );
        report(
            &shape,
            "slot frees",
            &yard.time(5_000, |yard, _| yard.release()),
        );
        let both = |yard: &mut Yard, n: usize| {
            if n.is_multiple_of(2) {
                yard.submit()
            } else {
                yard.release()
            }
        };
        report(&shape, "both in turn", &yard.time(10_000, both));
        let label = |yard: &mut Yard, n: usize| {
            let view = runner(n * 7 % RUNNERS, n / POOLS + n);
            yard.apply(Event::Runner(Box::new(view)));
        };
        report(&shape, "label edited", &yard.time(500, label));
        let paused = |yard: &mut Yard, n: usize| {
            yard.apply(Event::Pool(Box::new(pool(
                n / 2 % POOLS,
                n.is_multiple_of(2),
            ))));
        };
        report(&shape, "pool paused or resumed", &yard.time(200, paused));
        let gone = |yard: &mut Yard, n: usize| {
            for m in 0..100 {
                let id = RunnerId(id((n * 100 + m) % RUNNERS));
                yard.apply(Event::RunnerGone { id });
            }
        };
        report(&shape, "a hundred runners gone", &yard.time(40, gone));
    }
}

/// Jobs that come as fast as they are taken, and hold their slots for minutes.
struct Flood {
    jobs: usize,
    number: usize,
    strands: usize,
    lots: Lots,
}

const BEGIN: Moment = Moment::from_micros(1_700_000_000_000_000);

impl World for Flood {
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)> {
        if self.number >= self.jobs {
            return None;
        }
        self.number += 1;
        // 10,000 slots and 60 s each: about 97 % of what they can take.
        let ready =
            BEGIN + Duration::from_micros(6_200) * u32::try_from(self.number).unwrap_or(u32::MAX);
        let strand = StrandId(id(self.lots.draw(self.strands)));
        let job = JobId(id(self.number));
        let number = self.number as i64;
        let waits = Event::Waits {
            job,
            strand,
            ready,
            since: ready,
            number,
            avoid: None,
        };
        Some((ready, vec![waits.into()]))
    }

    fn started(&mut self, _: &Assignment, _: Moment) -> Duration {
        Duration::from_millis(30_000 + self.lots.draw(60_000) as u64)
    }
}

fn main() {
    let mut criterion = Criterion::default().configure_from_args().sample_size(10);
    single_events();
    let mut group = criterion.benchmark_group("rebuild");
    group.bench_function("10,000 runners, 50,000 strands, 100,000 waiting", |bench| {
        bench.iter(|| Yard::full(50_000, 100_000));
    });
    group.finish();
    let mut group = criterion.benchmark_group("simulate");
    for (name, runners, strands) in [
        ("1,000 runners, 200 strands", 1_000, 200),
        ("10,000 runners, 1,000 strands", RUNNERS, 1_000),
    ] {
        let jobs = 100_000;
        group.throughput(Throughput::Elements(jobs as u64));
        group.bench_function(name, |bench| {
            bench.iter_batched(
                || {
                    let mut state = State::default();
                    for n in 0..POOLS {
                        state.apply(Event::Pool(Box::new(pool(n, false))), BEGIN);
                    }
                    for n in 0..runners {
                        state.apply(Event::Runner(Box::new(runner(n, n / POOLS))), BEGIN);
                    }
                    for strand in 0..strands {
                        let (wanted, owner) = Yard::key(strand, strands);
                        let key = StrandKey {
                            requirement: requirement(wanted),
                            ..StrandKey::default()
                        };
                        state.apply(
                            Event::Strand {
                                id: StrandId(id(strand)),
                                key,
                                project: project(owner),
                            },
                            BEGIN,
                        );
                    }
                    let _ = state.plan(BEGIN, &mut AttemptId::default);
                    (
                        Engine::new(state, Keeper::default(), BEGIN),
                        Flood {
                            jobs,
                            number: 0,
                            strands,
                            lots: Lots(11),
                        },
                    )
                },
                |(mut engine, mut world)| {
                    simulate(&mut engine, &mut world, Moment::from_micros(i64::MAX))
                        .expect("consistent")
                },
                BatchSize::PerIteration,
            );
        });
    }
    group.finish();
    criterion.final_summary();
}
