mod model;

use self::model::{Alike, Bar, Job, Model, Running, seconds};
use super::*;
use crate::fact::{FactValue, Facts, Subject};
use crate::id::{AttemptId, JobId, PlaceId, PoolId, RunnerId, StrandId};
use crate::lifecycle::runner::{DesiredState, RunnerState};
use crate::requirement::Requirement;
use crate::time::Moment;
use crate::trust::Trust;
use criterion::{BatchSize, Criterion};
use proptest::prelude::*;
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::time::Duration;
use uuid::Uuid;

const REQUIREMENTS: [&str; 6] = [
    "",
    "linux",
    "arm64",
    "bench or arm64",
    "linux and not bench",
    "runner = \"fell-02\"",
];
const PROJECTS: [&str; 5] = [
    "firmware/buoy",
    "firmware/radio/modem",
    "shore/soundings",
    "shore/api",
    "chartroom",
];
const OWNERS: [&str; 3] = ["", "firmware", "shore"];
const PLACES: [&str; 6] = [
    "firmware",
    "firmware/radio",
    "shore",
    "shore/soundings",
    "chartroom",
    "",
];
const SEATS: [&str; 2] = ["licence", "tank"];

fn id(n: usize) -> Uuid {
    Uuid::from_u128(n as u128 + 1)
}

fn runner_view(n: usize, kind: usize, pool: usize, slots: u32, state: RunnerState) -> RunnerView {
    let labels: &[&str] = [&["bench"][..], &[], &["spare"]][kind % 3];
    let arch = if kind.is_multiple_of(2) {
        "arm64"
    } else {
        "x86-64"
    };
    let facts = Facts::from([
        ("os".to_owned(), FactValue::Text("linux".to_owned())),
        ("arch".to_owned(), FactValue::Text(arch.to_owned())),
    ]);
    let name = format!("fell-{n:02}");
    let subject = Subject::new(
        &name,
        &format!("pool-{pool}"),
        labels.iter().copied(),
        &facts,
    );
    RunnerView {
        id: RunnerId(id(n)),
        name,
        pool: PoolId(id(pool)),
        slots,
        state,
        desired_state: DesiredState::Work,
        subject,
    }
}

fn pool_view(n: usize, open: bool, owner: &str) -> PoolView {
    PoolView {
        id: PoolId(id(n)),
        name: format!("pool-{n}"),
        open,
        owner: owner.to_owned(),
        ..PoolView::default()
    }
}

/// A reach that is widened to a project; where it asks for approval, the bits say which projects are approved.
fn reach_of(also: Option<usize>, takes_untrusted: bool, approved: Option<usize>) -> Reach {
    let bits = approved.unwrap_or_default();
    let projects = PROJECTS.iter().enumerate();
    let approved_paths = projects.filter(|(n, _)| bits & (1 << n) != 0);
    Reach {
        widen_to: also.iter().map(|at| PROJECTS[*at].to_owned()).collect(),
        takes_untrusted,
        asks_approval: approved.is_some(),
        approved: approved_paths.map(|(_, path)| (*path).to_owned()).collect(),
        ..Reach::default()
    }
}

/// Each requirement of each project, in some bands and with some seats.
fn all_alike() -> Vec<Alike> {
    let seats = |needs: &[(&str, u32)]| -> SeatNeeds {
        needs
            .iter()
            .map(|(name, count)| ((*name).to_owned(), *count))
            .collect()
    };
    let mut alike = Vec::new();
    for (n, requirement) in REQUIREMENTS.iter().enumerate() {
        for (m, project) in PROJECTS.iter().enumerate() {
            let bands = [Band::Normal, Band::Background, Band::Urgent];
            alike.push(Alike {
                requirement,
                project,
                // Seats and trust do not depend on each other here, although a job with seats has to be trusted.
                trust: match (n + m * 3) % 5 {
                    2 => Trust::Untrusted,
                    _ => Trust::Trusted,
                },
                band: bands[(n + m) % 4 % 3],
                seats: match (n * 5 + m) % 7 {
                    1 => seats(&[("licence", 1)]),
                    3 => seats(&[("licence", 2)]),
                    5 => seats(&[("licence", 1), ("tank", 1)]),
                    _ => seats(&[]),
                },
            });
        }
    }
    alike
}

/// What a script can do to the queue and the yard.
#[derive(Clone, Debug)]
enum Step {
    Submit {
        strand: usize,
        ago: u64,
    },
    Cancel {
        job: usize,
    },
    Runner {
        runner: usize,
        kind: usize,
        pool: usize,
        slots: u32,
        state: RunnerState,
    },
    RunnerGone {
        runner: usize,
    },
    Pool {
        pool: usize,
        open: bool,
        owner: usize,
        also: Option<usize>,
        takes_untrusted: bool,
        paused: bool,
        /// The projects that are approved, as bits, where it asks for approval.
        approved: Option<usize>,
    },
    Place {
        place: usize,
        weight: u32,
        limit: Option<u32>,
    },
    Seats {
        seat: usize,
        count: u32,
    },
    Finish {
        attempt: usize,
    },
    TakeBack {
        attempt: usize,
    },
    Pass {
        seconds: u64,
    },
}

fn step() -> impl Strategy<Value = Step> {
    let state = prop::sample::select(vec![
        RunnerState::Available,
        RunnerState::Available,
        RunnerState::Offline,
        RunnerState::Paused,
    ]);
    let strands = all_alike().len();
    prop_oneof![
        12 => (0..strands, prop::sample::select(vec![0u64, 0, 500, 1000, 2000]))
            .prop_map(|(strand, ago)| Step::Submit { strand, ago }),
        1 => (0..40usize).prop_map(|job| Step::Cancel { job }),
        4 => (0..6usize, 0..6usize, 0..3usize, 0..4u32, state)
            .prop_map(|(runner, kind, pool, slots, state)| Step::Runner { runner, kind, pool, slots, state }),
        1 => (0..6usize).prop_map(|runner| Step::RunnerGone { runner }),
        2 => (0..3usize, any::<bool>(), 0..OWNERS.len(), prop::option::of(0..PROJECTS.len()), any::<bool>(), prop::bool::weighted(0.2), prop::option::weighted(0.3, 0..32usize))
            .prop_map(|(pool, open, owner, also, takes_untrusted, paused, approved)| Step::Pool { pool, open, owner, also, takes_untrusted, paused, approved }),
        1 => (0..PLACES.len(), 1..4u32, prop::option::of(0..4u32))
            .prop_map(|(place, weight, limit)| Step::Place { place, weight, limit }),
        2 => (0..SEATS.len(), 0..4u32).prop_map(|(seat, count)| Step::Seats { seat, count }),
        5 => (0..40usize).prop_map(|attempt| Step::Finish { attempt }),
        1 => (0..40usize).prop_map(|attempt| Step::TakeBack { attempt }),
        3 => prop::sample::select(vec![1u64, 60, 450, 901, 4000]).prop_map(|seconds| Step::Pass { seconds }),
    ]
}

/// The reason of the job at a position in its strand.
fn reason_at(segments: &[Segment], before: usize) -> Option<Reason> {
    let mut end = 0;
    segments
        .iter()
        .find(|segment| {
            end += segment.jobs.map_or(usize::MAX - end, |jobs| jobs as usize);
            before < end
        })
        .map(|segment| segment.reason)
}

struct Bench {
    state: State,
    model: Model,
    jobs: usize,
    attempts: usize,
    now: Moment,
}

/// An id of its own for the project at each path.
fn place_id(path: &str) -> PlaceId {
    let number = path.bytes().fold(0u128, |sum, byte| {
        sum.wrapping_mul(131).wrapping_add(u128::from(byte))
    });
    PlaceId(uuid::Uuid::from_u128(number))
}

fn strand_event(at: usize, alike: &Alike) -> Event {
    Event::Strand {
        id: StrandId(id(at)),
        key: StrandKey {
            requirement: alike
                .requirement
                .parse::<Requirement>()
                .unwrap()
                .to_string(),
            project: place_id(alike.project),
            band: alike.band,
            seats: alike.seats.clone(),
            workspace: None,
            trust: alike.trust,
            approved_in: BTreeSet::new(),
        },
        project: alike.project.to_owned(),
    }
}

impl Bench {
    fn new() -> Self {
        Bench::of(all_alike())
    }

    fn of(alike: Vec<Alike>) -> Self {
        let mut bench = Bench {
            state: State::default(),
            model: Model {
                alike,
                ..Model::default()
            },
            jobs: 0,
            attempts: 0,
            now: Moment::from_micros(1_700_000_000_000_000),
        };
        for (at, alike) in bench.model.alike.iter().enumerate() {
            bench.state.apply(strand_event(at, alike), bench.now);
        }
        bench
    }

    fn waits(&self, job: JobId, known: &Job) -> Event {
        Event::Waits {
            job,
            strand: StrandId(id(known.strand)),
            ready: known.ready,
            since: known.since,
            number: known.number,
            avoid: None,
        }
    }

    fn release(&mut self, attempt: AttemptId) {
        if let Some(gone) = self.model.running.remove(&attempt) {
            let project = self.model.alike[gone.strand].project;
            self.model.used.push((project, gone.since, self.now));
        }
    }

    fn take(&mut self, step: Step) {
        let now = self.now;
        match step {
            Step::Pass { seconds: passed } => self.now = now + seconds(passed),
            Step::Submit { strand, ago } => {
                let job = JobId(id(self.jobs));
                let known = Job {
                    strand,
                    ready: now - seconds(ago),
                    since: now - seconds(if self.jobs.is_multiple_of(3) { 0 } else { ago }),
                    number: self.jobs as i64,
                };
                self.jobs += 1;
                let event = self.waits(job, &known);
                // It may have been forgotten meanwhile.
                let told = strand_event(strand, &self.model.alike[strand]);
                self.model.waiting.insert(job, known);
                self.state.apply(told, now);
                self.state.apply(event.clone(), now);
                self.state.apply(event, now);
            }
            Step::Cancel { job } => {
                let job = JobId(id(job));
                self.model.waiting.remove(&job);
                self.state.apply(Event::Withdrawn { job }, now);
            }
            Step::Runner {
                runner,
                kind,
                pool,
                slots,
                state,
            } => {
                let view = runner_view(runner, kind, pool, slots, state);
                self.model.runners.insert(view.id, view.clone());
                self.state.apply(Event::Runner(Box::new(view)), now);
            }
            Step::RunnerGone { runner } => {
                let runner = RunnerId(id(runner));
                if self.model.runners.remove(&runner).is_some() {
                    let held: Vec<AttemptId> = self
                        .model
                        .running
                        .iter()
                        .filter(|(_, holder)| holder.runner == runner)
                        .map(|(attempt, _)| *attempt)
                        .collect();
                    held.into_iter().for_each(|attempt| self.release(attempt));
                }
                self.state.apply(Event::RunnerGone { id: runner }, now);
            }
            Step::Pool {
                pool,
                open,
                owner,
                also,
                takes_untrusted,
                paused,
                approved,
            } => {
                let mut view = pool_view(pool, open, OWNERS[owner]);
                view.reach = reach_of(also, takes_untrusted, approved);
                view.paused = paused;
                self.model.pools.insert(view.id, view.clone());
                self.state.apply(Event::Pool(Box::new(view)), now);
            }
            Step::Place {
                place,
                weight,
                limit,
            } => {
                let path = PLACES[place].to_owned();
                self.model.places.insert(path.clone(), (weight, limit));
                self.state.apply(
                    Event::Place(PlaceView {
                        path,
                        weight,
                        limit,
                    }),
                    now,
                );
            }
            Step::Seats { seat, count } => {
                let name = SEATS[seat].to_owned();
                self.model.seats.insert(name.clone(), count);
                self.state.apply(Event::Seats { name, count }, now);
            }
            Step::Finish { attempt } => {
                let attempt = AttemptId(id(attempt));
                self.release(attempt);
                self.state.apply(Event::Released { attempt }, now);
            }
            Step::TakeBack { attempt } => {
                let attempt = AttemptId(id(attempt));
                if let Some(running) = self.model.running.get_mut(&attempt) {
                    running.seated = false;
                }
                self.state.apply(Event::SeatsTakenBack { attempt }, now);
            }
        }
    }

    fn plan(&mut self) -> Plan {
        let attempts = &mut self.attempts;
        self.state.plan(self.now, &mut || {
            *attempts += 1;
            AttemptId(id(*attempts - 1))
        })
    }

    /// Carries a plan out in the model, and judges each of its assignments.
    fn check_plan(&mut self, plan: &Plan) -> Result<(), TestCaseError> {
        prop_assert_eq!(self.state.inconsistency(), None);
        for assignment in &plan.assignments {
            let job = self.model.waiting.remove(&assignment.job);
            prop_assert!(
                job.is_some(),
                "a job is assigned once, and only while it waits"
            );
            let strand = job.map(|job| job.strand).unwrap_or_default();
            let runner = self.model.runners[&assignment.runner].clone();
            prop_assert!(
                self.model.may_take(strand, &runner),
                "no attempt on a runner that does not satisfy"
            );
            prop_assert!(
                self.model.free_slots(&runner) > 0,
                "ceiling attempts than slots"
            );
            self.model.running.insert(
                assignment.attempt,
                Running {
                    runner: assignment.runner,
                    strand,
                    since: self.now,
                    seated: true,
                },
            );
        }
        for (name, count) in &self.model.seats {
            let started = plan.assignments.iter().any(|one| {
                self.model.alike[self.model.running[&one.attempt].strand]
                    .seats
                    .contains_key(name)
            });
            prop_assert!(
                !started || self.model.seats_taken(name) <= *count,
                "never more than the seats of {}",
                name
            );
        }
        for change in &plan.reasons {
            let strand = change.strand.0.as_u128() as usize - 1;
            let message = self.model.reasons.insert(strand, change.segments.clone());
            prop_assert_ne!(
                message.unwrap_or_default(),
                change.segments.clone(),
                "a reason is said only when it is another"
            );
        }
        Ok(())
    }

    /// Every waiting job has one reason, and it is the right one.
    fn judge_reasons(&self) -> Result<(), TestCaseError> {
        let model = &self.model;
        for (job, known) in &model.waiting {
            let reasons = model
                .reasons
                .get(&known.strand)
                .cloned()
                .unwrap_or_default();
            let turn = |job: &Job| (job.ready, job.number);
            let before = model
                .waiting
                .values()
                .filter(|other| other.strand == known.strand && turn(other) < turn(known))
                .count();
            let reason = reason_at(&reasons, before);
            prop_assert!(reason.is_some(), "every waiting job has exactly one reason");
            let reason = reason.unwrap_or(Reason::Handover);
            let runners = model.runners.values();
            let satisfying = runners
                .clone()
                .filter(|runner| {
                    let requirement: Requirement =
                        model.alike[known.strand].requirement.parse().unwrap();
                    model
                        .pools
                        .get(&runner.pool)
                        .is_some_and(|pool| pool.admits(&requirement, &runner.subject))
                })
                .count();
            let fits: Vec<&RunnerView> = runners
                .filter(|runner| model.may_take(known.strand, runner))
                .collect();
            let bar = model.bar(*job, self.now);
            let expected = if satisfying == 0 {
                Reason::NoMatch
            } else if fits.is_empty()
                && model
                    .runners
                    .values()
                    .any(|runner| model.awaits_approval(known.strand, runner))
            {
                Reason::NeedsApproval
            } else if fits.is_empty() {
                Reason::OutOfReach
            } else if !fits.iter().any(|runner| model.takes(runner)) {
                let connected =
                    |runner: &&&RunnerView| runner.willingness() != Availability::Offline;
                match fits.iter().filter(connected).count() {
                    0 => Reason::Offline,
                    _ => Reason::Paused,
                }
            } else {
                match bar {
                    Some(Bar::Limit) => Reason::TeamLimit,
                    Some(Bar::SeatTaken) => Reason::SeatTaken,
                    Some(Bar::SeatReserved) => Reason::SeatReserved,
                    Some(Bar::Slot) => Reason::AllBusy,
                    None => {
                        return Err(TestCaseError::fail(format!(
                            "{job:?} could have been added"
                        )));
                    }
                }
            };
            prop_assert_eq!(reason, expected, "the reason of {:?}", job);
            let told = self
                .state
                .standing(StrandId(id(known.strand)))
                .expect("the strand is known")
                .reason();
            prop_assert_eq!(
                Some(told),
                reason_at(&reasons, 0),
                "the standing tells the first job's reason"
            );
        }
        Ok(())
    }
}

/// How many yards are tried; more with PROPTEST_CASES.
fn cases() -> u32 {
    let asked = std::env::var("PROPTEST_CASES").ok();
    asked.and_then(|cases| cases.parse().ok()).unwrap_or(300)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    #[test]
    fn a_batch_is_the_oracles_walk_and_nothing_could_be_added(steps in prop::collection::vec(step(), 1..60), every in 1..4usize) {
        let mut bench = Bench::new();
        for (n, step) in steps.into_iter().enumerate() {
            bench.take(step);
            if n % every != 0 {
                continue;
            }
            let expected: BTreeSet<JobId> = bench.model.oracle(bench.now).into_iter().collect();
            let plan = bench.plan();
            let found: BTreeSet<JobId> = plan.assignments.iter().map(|one| one.job).collect();
            prop_assert_eq!(found, expected, "the batch is the walk");
            bench.check_plan(&plan)?;
            bench.judge_reasons()?;
            prop_assert_eq!(bench.state.waiting(), bench.model.waiting.len());
            prop_assert_eq!(bench.state.used(), bench.model.running.len());
        }
    }

    #[test]
    fn a_state_rebuilt_from_the_record_plans_as_the_one_that_was_kept(steps in prop::collection::vec(step(), 1..60), more in prop::collection::vec(step(), 1..6)) {
        let mut bench = Bench::new();
        for step in steps {
            bench.take(step);
            let plan = bench.plan();
            bench.check_plan(&plan)?;
        }
        let mut rebuilt = bench.rebuilt();
        for step in more {
            bench.take(step.clone());
            rebuilt.take(step);
        }
        // Attempts are numbered as they come: both go on from the same number.
        rebuilt.attempts = bench.attempts;
        let (kept, fresh) = (bench.plan(), rebuilt.plan());
        let jobs = |plan: &Plan| plan.assignments.iter().map(|one| one.job).collect::<Vec<_>>();
        prop_assert_eq!(jobs(&kept), jobs(&fresh));
        bench.check_plan(&kept)?;
        rebuilt.check_plan(&fresh)?;
        bench.judge_reasons()?;
        rebuilt.judge_reasons()?;
        for strand in 0..bench.model.alike.len() {
            let strand = StrandId(id(strand));
            prop_assert_eq!(bench.state.reasons_of(strand), rebuilt.state.reasons_of(strand));
        }
    }

    #[test]
    fn without_seats_and_limits_as_many_start_as_any_plan_could(
        runners in prop::collection::vec((0..6usize, 0..3usize, 0..3u32), 1..8),
        jobs in prop::collection::vec(0..REQUIREMENTS.len() * PROJECTS.len(), 1..20),
    ) {
        let mut alike = all_alike();
        alike.iter_mut().for_each(|alike| alike.seats.clear());
        let mut bench = Bench::of(alike);
        for pool in 0..3 {
            bench.take(Step::Pool { pool, open: pool != 1, owner: pool, also: None, takes_untrusted: pool != 2, paused: false, approved: None });
        }
        for (n, (kind, pool, slots)) in runners.into_iter().enumerate() {
            bench.take(Step::Runner { runner: n, kind, pool, slots, state: RunnerState::Available });
        }
        for strand in jobs {
            bench.take(Step::Submit { strand, ago: 0 });
        }
        let most = bench.largest_matching();
        prop_assert_eq!(bench.plan().assignments.len(), most);
    }
}

impl Bench {
    /// The size of a largest matching of waiting jobs to free slots, found from the slots' side.
    fn largest_matching(&self) -> usize {
        fn augment(
            slot: usize,
            edges: &[Vec<usize>],
            of: &mut Vec<Option<usize>>,
            seen: &mut BTreeSet<usize>,
        ) -> bool {
            for job in &edges[slot] {
                if seen.insert(*job) && of[*job].is_none_or(|other| augment(other, edges, of, seen))
                {
                    of[*job] = Some(slot);
                    return true;
                }
            }
            false
        }
        let jobs: Vec<usize> = self.model.waiting.values().map(|job| job.strand).collect();
        let mut edges = Vec::new();
        for runner in self.model.runners.values() {
            let fits: Vec<usize> = (0..jobs.len())
                .filter(|job| self.model.may_take(jobs[*job], runner))
                .collect();
            edges.extend((0..self.model.free_slots(runner)).map(|_| fits.clone()));
        }
        let mut of = vec![None; jobs.len()];
        (0..edges.len())
            .filter(|slot| augment(*slot, &edges, &mut of, &mut BTreeSet::new()))
            .count()
    }

    /// A state loaded from a record, and a reference model of the same contents.
    fn rebuilt(&self) -> Bench {
        let model = Model {
            policy: self.model.policy,
            alike: self.model.alike.clone(),
            runners: self.model.runners.clone(),
            pools: self.model.pools.clone(),
            places: self.model.places.clone(),
            seats: self.model.seats.clone(),
            waiting: self.model.waiting.clone(),
            running: self.model.running.clone(),
            used: self.model.used.clone(),
            reasons: self.model.reasons.clone(),
        };
        let mut state = State::default();
        let now = self.now;
        let policy = SharePolicy::default();
        for pool in model.pools.values() {
            state.apply(Event::Pool(Box::new(pool.clone())), now);
        }
        for (path, (weight, limit)) in &model.places {
            let view = PlaceView {
                path: path.clone(),
                weight: *weight,
                limit: *limit,
            };
            state.apply(Event::Place(view), now);
        }
        for (name, count) in &model.seats {
            state.apply(
                Event::Seats {
                    name: name.clone(),
                    count: *count,
                },
                now,
            );
        }
        for runner in model.runners.values() {
            state.apply(Event::Runner(Box::new(runner.clone())), now);
        }
        for (at, alike) in model.alike.iter().enumerate() {
            state.apply(strand_event(at, alike), now);
        }
        for (project, from, to) in &model.used {
            let half_life = policy.half_life.as_secs_f64();
            let decayed = |at: Moment| (-now.since(at).as_secs_f64() / half_life).exp2();
            let used = half_life / std::f64::consts::LN_2 * (decayed(*to) - decayed(*from));
            let slot_time = std::time::Duration::from_secs_f64(used.max(0.0));
            state.apply(
                Event::Used {
                    project: (*project).to_owned(),
                    slot_time,
                },
                now,
            );
        }
        for (attempt, running) in &model.running {
            let event = Event::Holds {
                attempt: *attempt,
                job: JobId(id(9_000_000)),
                runner: running.runner,
                strand: StrandId(id(running.strand)),
                since: running.since,
            };
            state.apply(event, now);
            if !running.seated {
                state.apply(Event::SeatsTakenBack { attempt: *attempt }, now);
            }
        }
        for (job, known) in &model.waiting {
            state.apply(self.waits(*job, known), now);
        }
        for (strand, segments) in &model.reasons {
            state.restore_reasons(StrandId(id(*strand)), segments.clone());
        }
        Bench {
            state,
            model,
            jobs: self.jobs,
            attempts: self.attempts,
            now,
        }
    }
}

mod order;
mod waiting_lines;

/// A measurement for docs/benchmarks.md, not a test: dispatch beside the plain walk by which it is judged, each from a slot
/// that frees to the batch. `cargo test --release -p pennine-core beside_the_plain_walk -- --ignored --nocapture`
#[test]
#[ignore = "a measurement"]
fn beside_the_plain_walk() {
    let mut criterion = Criterion::default()
        .without_plots()
        .sample_size(20)
        .warm_up_time(Duration::from_millis(200))
        .measurement_time(Duration::from_secs(2));
    for (runners, waiting) in [(5, 50), (10, 200), (20, 800)] {
        let mut group = criterion.benchmark_group(format!("{runners} runners, {waiting} waiting"));
        for walk in ["the plain walk", "dispatch"] {
            let line = RefCell::new(busy_line(runners, waiting));
            group.bench_function(walk, |timed| {
                timed.iter_batched(
                    || line.borrow_mut().frees_a_slot(),
                    |()| line.borrow_mut().walks(walk == "dispatch"),
                    BatchSize::PerIteration,
                );
            });
        }
        group.finish();
    }
}

/// A yard that is full, and a queue to which a job comes for each that ends, alike to it.
struct BusyLine {
    bench: Bench,
    rounds: usize,
    /// What dispatch said in this round, which is judged before the next.
    message: Option<Plan>,
}

fn busy_line(runners: usize, waiting: usize) -> BusyLine {
    let mut alike = all_alike();
    for one in &mut alike {
        one.seats = SeatNeeds::new();
    }
    let strands = alike.len();
    let runners: Vec<(usize, u32)> = (0..runners).map(|kind| (kind, 1)).collect();
    let mut bench = order::bench(alike, &runners);
    for n in 0..waiting {
        bench.take(Step::Submit {
            strand: n * 7 % strands,
            ago: 0,
        });
    }
    BusyLine {
        bench,
        rounds: 0,
        message: None,
    }
}

impl BusyLine {
    fn frees_a_slot(&mut self) {
        let plan = match self.message.take() {
            Some(plan) => plan,
            None => self.bench.plan(),
        };
        self.bench.check_plan(&plan).unwrap();
        self.rounds += 1;
        self.bench.take(Step::Pass { seconds: 1 });
        let running = &self.bench.model.running;
        let turn = self.rounds % running.len();
        let (attempt, strand) = running
            .iter()
            .map(|(attempt, held)| (*attempt, held.strand))
            .nth(turn)
            .unwrap();
        self.bench.take(Step::Submit { strand, ago: 0 });
        self.bench.take(Step::Finish {
            attempt: attempt.0.as_u128() as usize - 1,
        });
    }

    /// By dispatch or by the plain walk: one job starts, for one slot was freed.
    fn walks(&mut self, by_dispatch: bool) {
        let started = if by_dispatch {
            let plan = self.bench.plan();
            let started = plan.assignments.len();
            self.message = Some(plan);
            started
        } else {
            self.bench.model.oracle(self.bench.now).len()
        };
        assert_eq!(started, 1);
    }
}

/// A job in an unknown strand, and an attempt of it.
fn of_unknown_strand() -> (Event, Event) {
    let (job, strand) = (JobId(id(1)), StrandId(id(9)));
    let waits = Event::Waits {
        job,
        strand,
        ready: Moment::default(),
        since: Moment::default(),
        number: 1,
        avoid: None,
    };
    let holds = Event::Holds {
        attempt: AttemptId(id(2)),
        job,
        runner: RunnerId(id(3)),
        strand,
        since: Moment::default(),
    };
    (waits, holds)
}

#[test]
fn an_event_about_an_unknown_strand_is_an_error() {
    let now = Moment::default();
    let mut state = State::default();
    let (waits, holds) = of_unknown_strand();
    assert_eq!(state.inconsistency(), None);
    state.apply(waits, now);
    let found = |subject| {
        Some(Inconsistency {
            subject: Some(subject),
            problem: Problem::UnknownStrand(StrandId(id(9))),
        })
    };
    assert_eq!(state.inconsistency(), found(Entity::Job(JobId(id(1)))));
    // The first stays: what comes after it may only follow from it.
    state.apply(holds.clone(), now);
    assert_eq!(state.inconsistency(), found(Entity::Job(JobId(id(1)))));
    let mut fresh = State::default();
    fresh.apply(holds, now);
    let attempt = Entity::Attempt(AttemptId(id(2)));
    assert_eq!(fresh.inconsistency(), found(attempt));
}

#[test]
fn dispatch_skips_what_is_set_aside() {
    let now = Moment::default();
    let (waits, holds) = of_unknown_strand();
    for aside in [Entity::Job(JobId(id(1))), Entity::Strand(StrandId(id(9)))] {
        let mut state = State::default();
        state.set_aside([aside]);
        state.apply(waits.clone(), now);
        state.apply(holds.clone(), now);
        assert_eq!(state.inconsistency(), None, "{aside}");
        assert_eq!((state.waiting(), state.used()), (0, 0));
    }
}

#[test]
fn an_unused_strand_is_dropped_with_its_requirement_and_can_return() {
    let mut now = Moment::from_micros(1_795_415_517_000_000);
    let mut state = State::default();
    state.apply(Event::Pool(Box::new(pool_view(0, true, ""))), now);
    let runner = runner_view(0, 0, 0, 1, RunnerState::Available);
    state.apply(Event::Runner(Box::new(runner)), now);
    let told = |n: usize| Event::Strand {
        id: StrandId(id(n)),
        key: StrandKey {
            requirement: format!("linux and cores >= {n}"),
            ..StrandKey::default()
        },
        project: "shore/soundings".into(),
    };
    let mut most = (0, 0, 0);
    for n in 0..3_000 {
        now = now + seconds(20);
        assert!(!state.knows_strand(StrandId(id(n))));
        state.apply(told(n), now);
        let waits = |job: usize| Event::Waits {
            job: JobId(id(job)),
            strand: StrandId(id(n)),
            ready: now,
            since: now,
            number: job as i64,
            avoid: None,
        };
        state.apply(waits(n), now);
        let _ = state.plan(now, &mut || AttemptId(id(n)));
        state.apply(Event::Withdrawn { job: JobId(id(n)) }, now);
        let _ = state.plan(now, &mut || AttemptId(id(n)));
        let (strands, kinds) = (state.strands.len(), state.field.kinds.len());
        let requirements = state.field.wanted.len();
        most = (
            most.0.max(strands),
            most.1.max(kinds),
            most.2.max(requirements),
        );
    }
    assert_eq!(state.inconsistency(), None);
    // An hour's worth of strands, and some hundreds of kinds before they are recomputed.
    assert!(most.0 <= 181, "{most:?}");
    assert!(most.1 <= 1_000 && most.2 <= 1_000, "{most:?}");
    assert!(!state.knows_strand(StrandId(id(0))));
    state.apply(told(0), now);
    assert!(state.knows_strand(StrandId(id(0))));
}
