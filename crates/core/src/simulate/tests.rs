use super::*;
use crate::dispatch::{PoolView, RunnerView, SeatNeeds, StrandKey};
use crate::fact::{Facts, Subject};
use crate::id::{JobId, PoolId, RunnerId, StrandId};
use crate::lifecycle::runner::{DesiredState, RunnerState};
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
    fn next(&mut self) -> Option<(Moment, Vec<Event>)> {
        let (at, runs) = self.coming.next()?;
        let job = JobId(id(u64::try_from(self.number).unwrap()));
        self.number += 1;
        self.waits.insert(job, (second(at), runs));
        let event = Event::Waits {
            job,
            strand: StrandId(id(0)),
            ready: second(at),
            number: self.number,
            avoid: None,
        };
        Some((second(at), vec![event]))
    }

    fn started(&mut self, assignment: &Assignment, at: Moment) -> Duration {
        let (ready, runs) = self.waits.remove(&assignment.job).unwrap();
        let waited = at.since(ready).as_secs();
        self.begun.push((waited, runs));
        Duration::from_secs(runs)
    }

    fn planned(&mut self, _: &Plan, at: Moment) {
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

fn yard(runners: u64) -> State {
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
            wish: DesiredState::Work,
            subject: Subject::new(&format!("fell-{n}"), "quay", [], &Facts::new()),
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
        project: "shore/tides".into(),
    };
    state.apply(strand, now);
    state
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
fn in_the_long_run_waits_are_what_theory_says() {
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
        );
        assert_eq!(run.ended, u64::from(JOBS));
        let waited: u64 = world.begun.iter().map(|(waited, _)| waited).sum();
        let mean = waited as f64 / f64::from(JOBS);
        let theory = erlang_c(counters, rho) * RUNS / (f64::from(counters) * (1.0 - rho));
        let off = (mean - theory).abs() / theory;
        assert!(
            off < 0.1,
            "{counters} at {rho}: waited {mean:.1} s, theory says {theory:.1} s"
        );
        // L = lambda W, of those that wait.
        let there = world.area as f64 / 1e6 / horizon;
        let law = f64::from(JOBS) / horizon * mean;
        assert!(
            (there - law).abs() <= 0.01 * law,
            "{there} are there, {law} by the law"
        );
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
        let run = simulate(&mut yard(runners), &mut world, second(1_000_000));
        prop_assert_eq!(&world.begun, &expected);
        prop_assert_eq!((run.started, run.ended), (jobs.len() as u64, jobs.len() as u64));
        let waits: u64 = expected.iter().map(|(waited, _)| waited).sum();
        prop_assert_eq!(world.area, u128::from(waits) * 1_000_000, "the integral of the number waiting is the sum of the waits");
    }
}
