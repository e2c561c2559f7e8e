use super::*;
use crate::fact::{FactValue, Facts, Subject};
use crate::id::{AttemptId, JobId, PlaceId, PoolId, RunnerId, StrandId};
use crate::lifecycle::runner::{RunnerState, Wish};
use crate::requirement::Requirement;
use crate::time::Moment;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

const REQUIREMENTS: [&str; 5] = [
    "",
    "linux",
    "arm64",
    "bench or arm64",
    "linux and not bench",
];
const PROJECTS: [&str; 3] = ["firmware/buoy", "shore/tides", "chartroom"];
const OWNERS: [&str; 3] = ["", "firmware", "shore"];

fn id(n: usize) -> Uuid {
    Uuid::from_u128(n as u128 + 1)
}

fn strand_of(requirement: usize, project: usize) -> StrandId {
    StrandId(id(requirement * PROJECTS.len() + project))
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
        wish: Wish::Work,
        subject,
    }
}

/// What a script can do to the queue and the yard.
#[derive(Clone, Debug)]
enum Step {
    Submit {
        requirement: usize,
        project: usize,
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
    },
    Finish {
        attempt: usize,
    },
}

fn step() -> impl Strategy<Value = Step> {
    let state = prop::sample::select(vec![
        RunnerState::Available,
        RunnerState::Offline,
        RunnerState::Paused,
    ]);
    prop_oneof![
        6 => (0..REQUIREMENTS.len(), 0..PROJECTS.len())
            .prop_map(|(requirement, project)| Step::Submit { requirement, project }),
        1 => (0..40usize).prop_map(|job| Step::Cancel { job }),
        3 => (0..6usize, 0..6usize, 0..3usize, 0..4u32, state).prop_map(|(runner, kind, pool, slots, state)| {
            Step::Runner { runner, kind, pool, slots, state }
        }),
        1 => (0..6usize).prop_map(|runner| Step::RunnerGone { runner }),
        1 => (0..3usize, any::<bool>(), 0..OWNERS.len())
            .prop_map(|(pool, open, owner)| Step::Pool { pool, open, owner }),
        3 => (0..40usize).prop_map(|attempt| Step::Finish { attempt }),
    ]
}

/// The same yard kept in the plainest way, by which the state is judged.
#[derive(Default)]
struct Model {
    runners: BTreeMap<RunnerId, RunnerView>,
    pools: BTreeMap<PoolId, PoolView>,
    waiting: BTreeMap<JobId, StrandId>,
    running: BTreeMap<AttemptId, RunnerId>,
    reasons: BTreeMap<StrandId, Vec<Segment>>,
}

impl Model {
    fn may_take(&self, strand: StrandId, runner: &RunnerView) -> bool {
        let n = strand.0.as_u128() as usize - 1;
        let requirement: Requirement = REQUIREMENTS[n / PROJECTS.len()].parse().unwrap();
        self.pools.get(&runner.pool).is_some_and(|pool| {
            pool.admits(&requirement, &runner.subject) && pool.reaches(PROJECTS[n % PROJECTS.len()])
        })
    }

    fn used(&self, runner: RunnerId) -> usize {
        self.running
            .values()
            .filter(|holder| **holder == runner)
            .count()
    }

    fn has_free_slot(&self, runner: &RunnerView) -> bool {
        runner.willingness() == Willingness::Takes && self.used(runner.id) < runner.slots as usize
    }
}

struct Bench {
    state: State,
    model: Model,
    jobs: usize,
    attempts: usize,
    now: Moment,
}

impl Bench {
    fn new() -> Self {
        let mut bench = Bench {
            state: State::default(),
            model: Model::default(),
            jobs: 0,
            attempts: 0,
            now: Moment::default(),
        };
        for (requirement, text) in REQUIREMENTS.iter().enumerate() {
            for (project, path) in PROJECTS.iter().enumerate() {
                let key = StrandKey {
                    requirement: text.parse::<Requirement>().unwrap().to_string(),
                    project: PlaceId(id(project)),
                    band: Band::Normal,
                };
                let event = Event::Strand {
                    id: strand_of(requirement, project),
                    key,
                    project: (*path).to_owned(),
                };
                bench.state.apply(event, bench.now);
            }
        }
        bench
    }

    fn take(&mut self, step: Step) {
        self.now = self.now + std::time::Duration::from_millis(1);
        let now = self.now;
        match step {
            Step::Submit {
                requirement,
                project,
            } => {
                let (job, strand) = (JobId(id(self.jobs)), strand_of(requirement, project));
                let event = Event::Waits {
                    job,
                    strand,
                    ready: now,
                    number: self.jobs as i64,
                    avoid: None,
                };
                self.jobs += 1;
                self.model.waiting.insert(job, strand);
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
                self.model.runners.remove(&runner);
                self.model.running.retain(|_, holder| *holder != runner);
                self.state.apply(Event::RunnerGone { id: runner }, now);
            }
            Step::Pool { pool, open, owner } => {
                let view = PoolView {
                    id: PoolId(id(pool)),
                    name: format!("pool-{pool}"),
                    open,
                    owner: OWNERS[owner].to_owned(),
                };
                self.model.pools.insert(view.id, view.clone());
                self.state.apply(Event::Pool(view), now);
            }
            Step::Finish { attempt } => {
                let attempt = AttemptId(id(attempt));
                self.model.running.remove(&attempt);
                self.state.apply(Event::Released { attempt }, now);
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
}

proptest! {
    #[test]
    fn the_laws_of_dispatch_hold_after_every_batch(steps in prop::collection::vec(step(), 1..80)) {
        let mut bench = Bench::new();
        for step in steps {
            bench.take(step);
            let before: BTreeSet<JobId> = bench.model.waiting.keys().copied().collect();
            let plan = bench.plan();
            for assignment in &plan.assignments {
                let model = &mut bench.model;
                prop_assert!(before.contains(&assignment.job), "a job is assigned only while it waits");
                let strand = model.waiting.remove(&assignment.job).expect("and only once");
                let runner = model.runners[&assignment.runner].clone();
                prop_assert!(model.may_take(strand, &runner), "no attempt on a runner that does not satisfy");
                prop_assert!(model.has_free_slot(&runner), "never more attempts than slots");
                model.running.insert(assignment.attempt, assignment.runner);
            }
            for change in plan.reasons {
                let said = bench.model.reasons.insert(change.strand, change.segments.clone());
                prop_assert_ne!(said.unwrap_or_default(), change.segments, "a reason is said only when it is another");
            }
            let model = &bench.model;
            for (job, strand) in &model.waiting {
                let fits: Vec<_> = model.runners.values().filter(|runner| model.may_take(*strand, runner)).collect();
                prop_assert!(!fits.iter().any(|runner| model.has_free_slot(runner)), "{:?} could have been added", job);
                let reasons = &model.reasons[strand];
                prop_assert_eq!(reasons.len(), 1, "every waiting job has exactly one reason");
                let takes = fits.iter().any(|runner| runner.willingness() == Willingness::Takes);
                prop_assert_eq!(reasons[0].reason == Reason::AllBusy, takes);
                prop_assert_eq!(matches!(reasons[0].reason, Reason::NoMatch | Reason::OutOfReach), fits.is_empty());
            }
            prop_assert_eq!(bench.state.waiting(), model.waiting.len());
            prop_assert_eq!(bench.state.used(), model.running.len());
        }
    }

    #[test]
    fn jobs_of_a_strand_start_in_the_order_in_which_they_became_ready(jobs in 2..12usize) {
        let mut bench = Bench::new();
        bench.take(Step::Pool { pool: 0, open: true, owner: 0 });
        for _ in 0..jobs {
            bench.take(Step::Submit { requirement: 1, project: 0 });
        }
        bench.take(Step::Runner { runner: 0, kind: 1, pool: 0, slots: 1, state: RunnerState::Available });
        for n in 0..jobs {
            let plan = bench.plan();
            prop_assert_eq!(plan.assignments.len(), 1);
            prop_assert_eq!(plan.assignments[0].job, JobId(id(n)));
            bench.take(Step::Finish { attempt: n });
        }
    }
}

#[test]
fn a_job_that_was_lost_goes_to_another_runner_if_one_is_free_and_to_the_same_if_none_is() {
    let mut bench = Bench::new();
    bench.take(Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
    });
    for runner in 0..2 {
        bench.take(Step::Runner {
            runner,
            kind: 1,
            pool: 0,
            slots: 1,
            state: RunnerState::Available,
        });
    }
    let waits = |job, avoid| Event::Waits {
        job: JobId(id(job)),
        strand: strand_of(1, 0),
        ready: Moment::default(),
        number: job as i64,
        avoid: Some(RunnerId(id(avoid))),
    };
    bench.state.apply(waits(0, 0), bench.now);
    assert_eq!(bench.plan().assignments[0].runner, RunnerId(id(1)));
    bench.state.apply(waits(1, 0), bench.now);
    assert_eq!(bench.plan().assignments[0].runner, RunnerId(id(0)));
}

#[test]
fn a_refused_assignment_gives_its_slot_back() {
    let mut bench = Bench::new();
    bench.take(Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
    });
    bench.take(Step::Runner {
        runner: 0,
        kind: 1,
        pool: 0,
        slots: 1,
        state: RunnerState::Available,
    });
    bench.take(Step::Submit {
        requirement: 1,
        project: 0,
    });
    bench.take(Step::Submit {
        requirement: 1,
        project: 0,
    });
    let first = bench.plan().assignments[0];
    bench.state.apply(
        Event::Refused {
            attempt: first.attempt,
        },
        bench.now,
    );
    assert_eq!(bench.plan().assignments[0].job, JobId(id(1)));
}

#[test]
fn reach_is_everything_at_or_below_the_owner() {
    assert!(below("", "firmware/buoy"));
    assert!(below("firmware", "firmware"));
    assert!(below("firmware", "firmware/buoy"));
    assert!(!below("firm", "firmware/buoy"));
    assert!(!below("firmware/buoy", "firmware"));
}
