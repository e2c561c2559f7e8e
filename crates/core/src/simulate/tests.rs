use super::*;
use crate::capacity::{self, Keeper, ManagedPool, SupplierView, Supply};
use crate::dispatch::{Event, PoolView, Price, RunnerView, SeatNeeds, State, StrandKey};
use crate::fact::{Facts, Subject};
use crate::id::{JobId, PoolId, RunnerId, StrandId, SupplierId};
use crate::lifecycle::runner::{DesiredState, RunnerState};
use crate::time::Micros;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::collections::BTreeMap;

fn id(n: u64) -> Uuid {
    Uuid::from_u128(u128::from(n) + 1)
}

/// Jobs that come at given times and run for given times, on runners of one slot.
struct Jobs {
    coming: std::vec::IntoIter<(u64, u64)>,
    number: i64,
    waits: BTreeMap<JobId, (Moment, u64)>,
    begun: Vec<(u64, u64)>,
    /// The integral of the number waiting, and when and how many it was last.
    area: u128,
    last: (Moment, usize),
}

fn second(n: u64) -> Moment {
    Moment::from_micros(1_000_000 * i64::try_from(n).unwrap())
}

impl World for Jobs {
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)> {
        let (at, runs) = self.coming.next()?;
        let job = JobId(id(u64::try_from(self.number).unwrap()));
        self.number += 1;
        self.waits.insert(job, (second(at), runs));
        let event = Event::Waits {
            job,
            strand: StrandId(id(0)),
            ready: second(at),
            since: second(at),
            number: self.number,
            avoid: None,
        };
        Some((second(at), vec![event.into()]))
    }

    fn started(&mut self, assignment: &Assignment, at: Moment) -> Duration {
        let (ready, runs) = self.waits.remove(&assignment.job).unwrap();
        let waited = at.since(ready).as_secs();
        self.begun.push((waited, runs));
        Duration::from_secs(runs)
    }

    fn settled(&mut self, _: &Settlement, at: Moment) {
        let (since, waiting) = self.last;
        self.area += at.since(since).as_micros() * waiting as u128;
        // What the next call brings has not come yet.
        let ready = self
            .waits
            .values()
            .filter(|(ready, _)| *ready <= at)
            .count();
        self.last = (at, ready);
    }
}

fn yard(runners: u64) -> Engine {
    let mut state = State::default();
    let now = Moment::default();
    let pool = PoolView {
        id: PoolId(id(0)),
        open: true,
        ..PoolView::default()
    };
    state.apply(Event::Pool(Box::new(pool)), now);
    for n in 0..runners {
        let view = RunnerView {
            id: RunnerId(id(n)),
            name: format!("fell-{n}"),
            pool: PoolId(id(0)),
            slots: 1,
            state: RunnerState::Available,
            desired_state: DesiredState::Work,
            subject: Subject::new(&format!("fell-{n}"), "staithe", [], &Facts::new()),
        };
        state.apply(Event::Runner(Box::new(view)), now);
    }
    let key = StrandKey {
        seats: SeatNeeds::new(),
        ..StrandKey::default()
    };
    let strand = Event::Strand {
        id: StrandId(id(0)),
        key,
        project: "shore/soundings".into(),
    };
    state.apply(strand, now);
    Engine::new(state, Keeper::default(), now)
}

/// Of a line at `counters` counters with load `rho` on each, the chance that who comes has to wait (A. K. Erlang's formula C).
fn erlang_c(counters: u32, rho: f64) -> f64 {
    let offered = f64::from(counters) * rho;
    // Built up from Erlang's formula B, counter by counter.
    let blocked = (1..=counters).fold(1.0, |b, n| offered * b / (f64::from(n) + offered * b));
    blocked / (1.0 - rho * (1.0 - blocked))
}

/// Long runs of real dispatch agree with what queueing theory says of lines with exponential times: how long they wait on
/// average, and J. D. C. Little's law, that as many are there on average as come in the time that each stays.
#[test]
fn simulated_waits_match_queueing_theory() {
    const JOBS: u32 = 40_000;
    const RUNS: f64 = 100.0;
    let mut seed = 7u64;
    // Steele, Lea and Flood's SplitMix64.
    let mut uniform = move || {
        seed = seed.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = seed;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    };
    for (counters, rho) in [(1u32, 0.7), (4, 0.8), (12, 0.6)] {
        let between = RUNS / (f64::from(counters) * rho);
        let mut draw = |mean: f64| -mean * (1.0 - uniform()).ln();
        let mut at = 0.0;
        let mut jobs = Vec::new();
        for _ in 0..JOBS {
            at += draw(between);
            jobs.push((at as u64, (draw(RUNS).round() as u64).max(1)));
        }
        let horizon = jobs.iter().map(|(at, _)| *at).max().unwrap() as f64;
        let mut world = Jobs {
            coming: jobs.into_iter(),
            number: 0,
            waits: BTreeMap::new(),
            begun: Vec::new(),
            area: 0,
            last: (Moment::default(), 0),
        };
        let run = simulate(
            &mut yard(u64::from(counters)),
            &mut world,
            second(u64::MAX >> 22),
        )
        .unwrap();
        assert_eq!(run.ended, u64::from(JOBS));
        let waited: u64 = world.begun.iter().map(|(waited, _)| waited).sum();
        let mean = waited as f64 / f64::from(JOBS);
        let theory = erlang_c(counters, rho) * RUNS / (f64::from(counters) * (1.0 - rho));
        let off = (mean - theory).abs() / theory;
        assert!(
            off < 0.1,
            "{counters} at {rho}: waited {mean:.1} s, theory says {theory:.1} s"
        );
        // L = lambda W, of the waiting jobs.
        let there = world.area as f64 / 1e6 / horizon;
        let law = f64::from(JOBS) / horizon * mean;
        assert!(
            (there - law).abs() <= 0.01 * law,
            "{there} are there, {law} by the law"
        );
    }
}

/// A team's jobs on machines of a supplier, some of which are lost, refused or never come.
struct Cloud {
    coming: std::vec::IntoIter<(Moment, Vec<SimulationEvent>)>,
    jobs: BTreeMap<JobId, (Moment, u64)>,
    /// How often each job was lost, and which attempts have ended or were lost.
    losses: BTreeMap<JobId, u32>,
    by_attempt: BTreeMap<AttemptId, (JobId, RunnerId)>,
    done: BTreeMap<JobId, u32>,
    orders: u64,
    /// One order in this many is refused, or never boots.
    refuses: u64,
    never_boots: u64,
    boot: u64,
}

impl Cloud {
    fn new(jobs: &[(u64, u64)], refuses: u64, never_boots: u64) -> Self {
        let mut cloud = Cloud {
            coming: Vec::new().into_iter(),
            jobs: BTreeMap::new(),
            losses: BTreeMap::new(),
            by_attempt: BTreeMap::new(),
            done: BTreeMap::new(),
            orders: 0,
            refuses,
            never_boots,
            boot: 30,
        };
        let mut coming = Vec::new();
        for (number, (at, runs)) in jobs.iter().enumerate() {
            let job = JobId(id(number as u64));
            cloud.jobs.insert(job, (second(*at), *runs));
            let waits = Event::Waits {
                job,
                strand: StrandId(id(0)),
                ready: second(*at),
                since: second(*at),
                number: number as i64,
                avoid: None,
            };
            coming.push((second(*at), vec![waits.into()]));
        }
        coming.sort_by_key(|(at, _)| *at);
        cloud.coming = coming.into_iter();
        cloud
    }

    fn happen(&mut self, at: u64, happening: impl Into<SimulationEvent>) {
        let mut coming: Vec<_> = std::mem::take(&mut self.coming).collect();
        let place = coming.partition_point(|(other, _)| *other <= second(at));
        coming.insert(place, (second(at), vec![happening.into()]));
        self.coming = coming.into_iter();
    }
}

impl World for Cloud {
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)> {
        self.coming.next()
    }

    fn started(&mut self, assignment: &Assignment, _: Moment) -> Duration {
        let before = (assignment.job, assignment.runner);
        self.by_attempt.insert(assignment.attempt, before);
        Duration::from_secs(self.jobs[&assignment.job].1)
    }

    fn ended(&mut self, attempt: AttemptId, _: Moment) {
        let (job, _) = self
            .by_attempt
            .remove(&attempt)
            .expect("an attempt ends once");
        *self.done.entry(job).or_default() += 1;
    }

    fn ordered(&mut self, order: &Order, _: Moment) -> OrderResult {
        self.orders += 1;
        if self.refuses > 0 && self.orders.is_multiple_of(self.refuses) {
            return OrderResult::Refused {
                reason: "out of stock".into(),
            };
        }
        if self.never_boots > 0 && self.orders.is_multiple_of(self.never_boots) {
            return OrderResult::NeverBoots;
        }
        OrderResult::Boots {
            after: Duration::from_secs(self.boot),
            runner: Box::new(runner(order.runner, &order.machine.to_string())),
        }
    }

    fn removal(&mut self, _: MachineId) -> Duration {
        Duration::from_secs(5)
    }

    fn lost_job(&mut self, job: JobId) -> LostJob {
        let losses = self.losses.get(&job).copied().unwrap_or(0);
        LostJob {
            view: JobView {
                tries: 3,
                losses,
                cancelled_by: None,
                give_up_after: None,
            },
            ready: self.jobs[&job].0,
            number: 0,
        }
    }

    fn lost(&mut self, attempt: AttemptId, outcome: &JobOutcome, _: Moment) {
        let (job, _) = self
            .by_attempt
            .remove(&attempt)
            .expect("an attempt is lost once");
        *self.losses.entry(job).or_default() += 1;
        if matches!(outcome, JobOutcome::Done { .. }) {
            *self.done.entry(job).or_default() += 1;
        }
    }
}

fn runner(runner: RunnerId, name: &str) -> RunnerView {
    RunnerView {
        id: runner,
        name: name.to_owned(),
        pool: PoolId(id(0)),
        slots: 1,
        state: RunnerState::Available,
        desired_state: DesiredState::Work,
        subject: Subject::new(name, "slipway", [], &Facts::new()),
    }
}

/// A pool whose machines come from a supplier, and one strand.
fn supplied(supply: Supply) -> Engine {
    let now = Moment::default();
    let mut engine = yard(0);
    engine.apply(
        capacity::Event::Supplier(SupplierView {
            id: SupplierId(id(0)),
            name: "chandler".into(),
            quota: None,
            boot_limit: Duration::from_secs(120),
        }),
        now,
    );
    engine.apply(pool(supply), now);
    engine
}

fn pool(supply: Supply) -> crate::engine::Event {
    let view = PoolView {
        id: PoolId(id(0)),
        name: "slipway".into(),
        open: true,
        makes: Some(Subject::new("", "slipway", [], &Facts::new())),
        ..PoolView::default()
    };
    let policy = ManagedPool {
        id: PoolId(id(0)),
        name: "slipway".into(),
        supplier: SupplierId(id(0)),
        supply,
        zone: TimeZone::UTC,
        price: Price(10),
        paused: false,
    };
    crate::engine::Event::Pool {
        view: Box::new(view),
        policy: Some(Box::new(policy)),
    }
}

fn supply(ceiling: u32, single_use: bool) -> Supply {
    Supply {
        supplier: "chandler".into(),
        ceiling,
        single_use,
        dwell_us: Micros::from(Duration::from_secs(60)),
        ..Supply::default()
    }
}

#[test]
fn machines_are_ordered_for_jobs_and_released_when_idle() {
    let mut cloud = Cloud::new(&[(0, 10), (0, 10), (1, 10), (300, 10)], 0, 0);
    let mut engine = supplied(supply(8, false));
    let run = simulate(&mut engine, &mut cloud, second(10_000)).unwrap();
    assert_eq!((run.started, run.ended, run.lost), (4, 4, 0));
    assert_eq!(run.ordered, 4, "three at first, and one after their dwell");
    assert_eq!(engine.capacity().machines().count(), 0);
    // 300 s, and then boot, work, dwell and removal.
    assert_eq!(run.until, second(300 + 30 + 10 + 60 + 5));
}

#[test]
fn a_policy_change_applies_at_once_to_waiting_jobs() {
    let jobs: Vec<(u64, u64)> = (0..6).map(|_| (0, 100)).collect();
    let mut cloud = Cloud::new(&jobs, 0, 0);
    cloud.happen(10, pool(supply(6, true)));
    let mut engine = supplied(supply(2, true));
    let run = simulate(&mut engine, &mut cloud, second(10_000)).unwrap();
    assert_eq!((run.ended, run.ordered), (6, 6));
    assert_eq!(
        run.until,
        second(10 + 30 + 100 + 5),
        "the last four were ordered at 10 s"
    );
}

#[test]
fn jobs_of_a_silent_runner_are_retried_elsewhere() {
    let mut cloud = Cloud::new(&[(0, 300), (0, 300)], 0, 0);
    let mut engine = yard(3);
    cloud.happen(50, SimulationEvent::RunnerSilent(RunnerId(id(0))));
    let run = simulate(&mut engine, &mut cloud, second(10_000)).unwrap();
    assert_eq!((run.started, run.ended, run.lost), (3, 2, 1));
    // Its lease ends after 30 s, on the next look.
    assert_eq!(run.until, second(50 + 31 + 300));
    let silent = engine
        .dispatch()
        .runner_view(RunnerId(id(0)))
        .expect("known");
    assert_eq!(silent.state, RunnerState::Offline);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// However suppliers, machines and runners fail, every job is done exactly once and no machine is left over.
    #[test]
    fn every_job_is_done_once_and_every_machine_goes(
        jobs in prop::collection::vec((0u64..600, 1u64..120), 1..40),
        (ceiling, single_use) in (1u32..6, any::<bool>()),
        (refuses, never_boots) in (prop_oneof![Just(0u64), 3u64..6], prop_oneof![Just(0u64), 3u64..6]),
        silences in prop::collection::vec((0u64..900, 0usize..4), 0..4),
        (raised, at) in (1u32..9, 0u64..600),
    ) {
        let mut cloud = Cloud::new(&jobs, refuses, never_boots);
        cloud.happen(at, pool(supply(raised, single_use)));
        // Machines get their ids in order, so that which runners there may be can be told beforehand.
        for (when, which) in silences {
            let runner = RunnerId(Uuid::from_u128((which as u128 * 2 + 2) | 1 << 100));
            cloud.happen(when, SimulationEvent::RunnerSilent(runner));
        }
        let mut engine = supplied(supply(ceiling, single_use));
        let run = simulate(&mut engine, &mut cloud, second(1_000_000)).unwrap();
        prop_assert_eq!(cloud.done.len(), jobs.len(), "{:?}", run);
        prop_assert!(cloud.done.values().all(|times| *times == 1), "{:?}", cloud.done);
        prop_assert_eq!(run.started, run.ended + run.lost);
        prop_assert_eq!(engine.capacity().machines().count(), 0);
        prop_assert_eq!(engine.dispatch().used() + engine.dispatch().waiting(), 0);
        prop_assert!(engine.inconsistency().is_none());
    }
}

proptest! {
    #[test]
    fn a_line_of_jobs_waits_as_a_line_at_a_counter_does(
        jobs in prop::collection::vec((0u64..200, 1u64..50), 1..60),
        runners in 1u64..5,
    ) {
        let mut jobs = jobs;
        jobs.sort_unstable();
        // By hand: each job takes the counter that is free first.
        let mut free = vec![0u64; usize::try_from(runners).unwrap()];
        let mut expected = Vec::new();
        for (at, runs) in &jobs {
            free.sort_unstable();
            let begin = free[0].max(*at);
            free[0] = begin + runs;
            expected.push((begin - at, *runs));
        }
        let mut world = Jobs {
            coming: jobs.clone().into_iter(),
            number: 0,
            waits: BTreeMap::new(),
            begun: Vec::new(),
            area: 0,
            last: (Moment::default(), 0),
        };
        let run = simulate(&mut yard(runners), &mut world, second(1_000_000)).unwrap();
        prop_assert_eq!(&world.begun, &expected);
        prop_assert_eq!((run.started, run.ended), (jobs.len() as u64, jobs.len() as u64));
        let waits: u64 = expected.iter().map(|(waited, _)| waited).sum();
        prop_assert_eq!(world.area, u128::from(waits) * 1_000_000, "the integral of the number waiting is the sum of the waits");
    }
}
