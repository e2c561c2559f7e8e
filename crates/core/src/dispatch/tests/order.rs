//! Order and choice, shown one by one.

use super::*;

fn alike(requirement: &'static str, project: &'static str) -> Alike {
    Alike {
        requirement,
        project,
        trust: Trust::Trusted,
        band: Band::Normal,
        seats: SeatNeeds::new(),
    }
}

fn with_seats(mut alike: Alike, count: u32) -> Alike {
    alike.seats = [("licence".to_owned(), count)].into();
    alike
}

/// A bench with one pool at the root and these runners in it: what kind, and how many slots.
pub(super) fn bench(alike: Vec<Alike>, runners: &[(usize, u32)]) -> Bench {
    let mut bench = Bench::of(alike);
    bench.take(Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
        also: None,
        takes_untrusted: false,
        paused: false,
        approved: None,
    });
    for (n, (kind, slots)) in runners.iter().enumerate() {
        bench.runner(n, *kind, *slots);
    }
    bench
}

impl Bench {
    fn runner(&mut self, runner: usize, kind: usize, slots: u32) {
        self.take(Step::Runner {
            runner,
            kind,
            pool: 0,
            slots,
            state: RunnerState::Available,
        });
    }

    fn submit(&mut self, strand: usize) {
        self.take(Step::Submit { strand, ago: 0 });
    }

    /// The strands whose jobs a plan starts, in order, and carries the plan out.
    fn started(&mut self) -> Vec<usize> {
        let strands: Vec<(JobId, usize)> = self
            .model
            .waiting
            .iter()
            .map(|(job, known)| (*job, known.strand))
            .collect();
        let plan = self.plan();
        self.check_plan(&plan).unwrap();
        let strand = |job| strands.iter().find(|(other, _)| *other == job).unwrap().1;
        plan.assignments.iter().map(|one| strand(one.job)).collect()
    }

    /// The runners that a plan chooses, by number.
    fn chosen(&mut self) -> Vec<usize> {
        let plan = self.plan();
        self.check_plan(&plan).unwrap();
        plan.assignments
            .iter()
            .map(|one| one.runner.0.as_u128() as usize - 1)
            .collect()
    }
}

#[test]
fn jobs_of_a_strand_start_in_the_order_in_which_they_became_ready() {
    let mut bench = bench(vec![alike("linux", "shore/soundings")], &[(1, 1)]);
    for _ in 0..5 {
        bench.submit(0);
    }
    for n in 0..5 {
        let plan = bench.plan();
        assert_eq!(plan.assignments.len(), 1);
        assert_eq!(plan.assignments[0].job, JobId(id(n)));
        bench.take(Step::Finish { attempt: n });
    }
}

#[test]
fn a_job_that_was_lost_goes_to_another_runner_if_one_is_free_and_to_the_same_if_none_is() {
    let mut bench = bench(vec![alike("linux", "shore/soundings")], &[(1, 1), (1, 1)]);
    let waits = |job, avoid| Event::Waits {
        job: JobId(id(job)),
        strand: StrandId(id(0)),
        ready: Moment::default(),
        since: Moment::default(),
        number: job as i64,
        avoid: Some(RunnerId(id(avoid))),
    };
    bench.state.apply(waits(0, 0), bench.now);
    assert_eq!(bench.plan().assignments[0].runner, RunnerId(id(1)));
    bench.state.apply(waits(1, 0), bench.now);
    assert_eq!(bench.plan().assignments[0].runner, RunnerId(id(0)));
}

#[test]
fn a_refused_assignment_frees_its_slot() {
    let mut bench = bench(vec![alike("linux", "shore/soundings")], &[(1, 1)]);
    bench.submit(0);
    bench.submit(0);
    let attempt = bench.plan().assignments[0].attempt;
    bench.state.apply(Event::Refused { attempt }, bench.now);
    assert_eq!(bench.plan().assignments[0].job, JobId(id(1)));
}

#[test]
fn a_teams_batch_does_not_starve_the_others() {
    let strands = vec![
        alike("linux", "firmware/buoy"),
        alike("linux", "shore/soundings"),
    ];
    let mut bench = bench(strands, &[(1, 4)]);
    for _ in 0..20 {
        bench.submit(0);
    }
    bench.take(Step::Pass { seconds: 1 });
    for _ in 0..2 {
        bench.submit(1);
    }
    assert_eq!(
        bench.started(),
        [0, 1, 0, 1],
        "turn by turn, the older job first"
    );
}

#[test]
fn a_team_of_twice_the_weight_gets_twice_the_slots() {
    let strands = vec![
        alike("linux", "firmware/buoy"),
        alike("linux", "shore/soundings"),
    ];
    let mut bench = bench(strands, &[(1, 9)]);
    bench.take(Step::Place {
        place: 0,
        weight: 2,
        limit: None,
    });
    for _ in 0..20 {
        bench.submit(0);
        bench.submit(1);
    }
    let started = bench.started();
    assert_eq!(
        started.iter().filter(|strand| **strand == 0).count(),
        6,
        "{started:?}"
    );
}

#[test]
fn recent_use_lowers_a_teams_order_and_decays() {
    let strands = vec![
        alike("linux", "firmware/buoy"),
        alike("linux", "shore/soundings"),
    ];
    let mut bench = bench(strands, &[(1, 1)]);
    bench.submit(0);
    assert_eq!(bench.started(), [0]);
    bench.take(Step::Pass { seconds: 3600 });
    bench.submit(0);
    bench.submit(1);
    bench.take(Step::Finish { attempt: 0 });
    assert_eq!(bench.started(), [1], "firmware has had an hour");
    bench.take(Step::Pass { seconds: 800 });
    bench.submit(1);
    bench.take(Step::Finish { attempt: 1 });
    assert_eq!(
        bench.started(),
        [1],
        "a while just now is less than the hour before it"
    );
    let recent = |bench: &Bench| bench.state.share("firmware", bench.now).unwrap().0;
    assert!(recent(&bench) > seconds(2000));
    bench.take(Step::Pass { seconds: 36_000 });
    assert!(recent(&bench) < seconds(4), "ten half-lives later");
}

#[test]
fn bands_come_before_shares_and_a_long_wait_climbs() {
    let band = |band, project| Alike {
        band,
        ..alike("linux", project)
    };
    let strands = vec![
        band(Band::Background, "firmware/buoy"),
        band(Band::Normal, "shore/soundings"),
        band(Band::Urgent, "chartroom"),
    ];
    let mut bench = bench(strands, &[(1, 1)]);
    bench.submit(0);
    assert_eq!(bench.started(), [0]);
    bench.submit(0);
    bench.take(Step::Pass { seconds: 1801 });
    bench.submit(1);
    bench.submit(2);
    bench.take(Step::Finish { attempt: 0 });
    // Half an hour has brought it from background to the top; chartroom, at the top too, has used nothing.
    assert_eq!(bench.started(), [2]);
    bench.take(Step::Finish { attempt: 1 });
    assert_eq!(bench.started(), [0], "before what is only normal");
}

#[test]
fn a_scarce_runner_is_left_to_the_jobs_that_need_it_now() {
    // Runners 0 and 1 have the bench and are idle longest; runner 2 is plain.
    let strands = || {
        vec![
            alike("linux", "firmware/buoy"),
            alike("bench", "shore/soundings"),
        ]
    };
    let yard = [(0, 1), (0, 1), (2, 1)];
    let mut wanted = bench(strands(), &yard);
    wanted.submit(1);
    assert_eq!(wanted.chosen(), [0]);
    wanted.submit(0);
    assert_eq!(wanted.chosen(), [2], "a job on a bench runs just now");
    wanted.submit(0);
    assert_eq!(
        wanted.chosen(),
        [1],
        "but it is given when nothing else is free"
    );
    let mut unwanted = bench(strands(), &yard);
    unwanted.submit(0);
    assert_eq!(unwanted.chosen(), [0], "no job asks for a bench");
    unwanted.submit(1);
    assert_eq!(unwanted.chosen(), [1]);
}

#[test]
fn a_job_that_could_run_anywhere_makes_room_for_one_that_could_not() {
    let strands = vec![
        alike("linux", "firmware/buoy"),
        alike("bench", "shore/soundings"),
    ];
    let mut bench = bench(strands, &[(0, 1), (2, 1)]);
    bench.submit(0);
    bench.submit(1);
    assert_eq!(bench.chosen(), [1, 0]);
}

#[test]
fn the_cheaper_pool_is_taken_first_then_the_runner_idle_longest() {
    let mut bench = Bench::of(vec![alike("linux", "shore/soundings")]);
    for (pool, price) in [(0, 900_000), (1, 300_000)] {
        let mut view = pool_view(pool, true, "");
        view.price = Price(price);
        bench.model.pools.insert(view.id, view.clone());
        bench.state.apply(Event::Pool(Box::new(view)), bench.now);
    }
    for (n, pool) in [(0, 0), (1, 1), (2, 1)] {
        bench.take(Step::Runner {
            runner: n,
            kind: 1,
            pool,
            slots: 1,
            state: RunnerState::Available,
        });
        bench.take(Step::Pass { seconds: 1 });
    }
    bench.submit(0);
    assert_eq!(bench.chosen(), [1]);
    bench.take(Step::Finish { attempt: 0 });
    bench.submit(0);
    assert_eq!(
        bench.chosen(),
        [2],
        "it has been idle longer than the one that has just finished"
    );
    bench.submit(0);
    bench.submit(0);
    assert_eq!(bench.chosen(), [1, 0]);
}

#[test]
fn a_kept_workspace_is_preferred_by_its_project_and_never_waited_for() {
    let mut bench = Bench::of(vec![alike("linux", "shore/soundings")]);
    let mut key = match strand_event(0, &bench.model.alike[0]) {
        Event::Strand { key, .. } => key,
        _ => unreachable!("a strand"),
    };
    key.workspace = Some("soundings".into());
    bench.model.alike.push(alike("linux", "shore/soundings"));
    let event = Event::Strand {
        id: StrandId(id(1)),
        key,
        project: "shore/soundings".into(),
    };
    bench.state.apply(event, bench.now);
    bench.take(Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
        also: None,
        takes_untrusted: false,
        paused: false,
        approved: None,
    });
    for n in 0..3 {
        bench.runner(n, 1, 1);
    }
    let kept = Event::Workspace {
        name: "soundings".into(),
        runner: RunnerId(id(2)),
        there: true,
    };
    bench.state.apply(kept, bench.now);
    bench.submit(1);
    assert_eq!(bench.chosen(), [2]);
    bench.submit(1);
    assert_eq!(
        bench.chosen().len(),
        1,
        "it is full: another is taken at once"
    );
}

#[test]
fn a_limit_of_zero_starts_no_job_and_is_the_reason() {
    let mut bench = bench(vec![alike("linux", "shore/soundings")], &[(1, 4)]);
    bench.take(Step::Place {
        place: 2,
        weight: 1,
        limit: Some(0),
    });
    bench.submit(0);
    let plan = bench.plan();
    bench.check_plan(&plan).unwrap();
    assert!(plan.assignments.is_empty());
    assert_eq!(plan.reasons[0].segments[0].reason, Reason::TeamLimit);
    let standing = bench.state.standing(StrandId(id(0))).unwrap();
    assert_eq!(
        standing.describe(Reason::TeamLimit),
        "shore uses 0 slots; its limit is 0"
    );
    bench.take(Step::Place {
        place: 2,
        weight: 1,
        limit: Some(1),
    });
    assert_eq!(bench.started(), [0]);
}

#[test]
fn seats_lowered_under_use_drain() {
    let mut bench = bench(
        vec![with_seats(alike("linux", "shore/soundings"), 1)],
        &[(1, 4)],
    );
    bench.take(Step::Seats { seat: 0, count: 3 });
    for _ in 0..4 {
        bench.submit(0);
    }
    assert_eq!(bench.started().len(), 3);
    bench.take(Step::Seats { seat: 0, count: 1 });
    bench.take(Step::Finish { attempt: 0 });
    bench.take(Step::Finish { attempt: 1 });
    assert_eq!(
        bench.started().len(),
        0,
        "one is still held, and one is all there are"
    );
    assert_eq!(bench.state.seats_of("licence"), Some((1, 1)));
    bench.take(Step::Finish { attempt: 2 });
    assert_eq!(bench.started().len(), 1);
}

#[test]
fn seats_taken_back_from_a_stuck_holder_go_to_the_next_and_are_not_given_back_twice() {
    let mut bench = bench(
        vec![with_seats(alike("linux", "shore/soundings"), 1)],
        &[(1, 2)],
    );
    bench.take(Step::Seats { seat: 0, count: 1 });
    bench.submit(0);
    bench.submit(0);
    assert_eq!(bench.started(), [0]);
    assert!(bench.started().is_empty());
    bench.take(Step::TakeBack { attempt: 0 });
    assert_eq!(bench.started(), [0]);
    bench.take(Step::Finish { attempt: 0 });
    assert_eq!(
        bench.state.seats_of("licence"),
        Some((1, 1)),
        "the second holds it still"
    );
}

#[test]
fn a_job_that_needs_several_seats_is_not_starved_by_a_stream_that_needs_one() {
    // Two seats; one-seat jobs overlap so that both are never free at once, unless they are set aside.
    let strands = vec![
        with_seats(alike("linux", "firmware/buoy"), 2),
        with_seats(alike("linux", "shore/soundings"), 1),
    ];
    let mut bench = bench(strands, &[(1, 8)]);
    bench.take(Step::Seats { seat: 0, count: 2 });
    bench.submit(1);
    assert_eq!(bench.started(), [1]);
    bench.submit(0);
    let mut attempt = 0;
    let mut waited = 0;
    let mut held_back = false;
    loop {
        bench.submit(1);
        let started = bench.started();
        if started.contains(&0) {
            break;
        }
        held_back |= bench.model.reasons.get(&1).is_some_and(|message| {
            message
                .first()
                .is_some_and(|message| message.reason == Reason::SeatReserved)
        });
        bench.take(Step::Pass { seconds: 60 });
        waited += 60;
        if bench.model.running.contains_key(&AttemptId(id(attempt))) {
            bench.take(Step::Finish { attempt });
            attempt += 1;
        }
        assert!(waited < 3600, "it starves");
    }
    assert!(
        held_back,
        "those held back say that the seat is reserved for another job"
    );
    assert!(
        (900..=1200).contains(&waited),
        "soon after it had climbed to the top: {waited} s"
    );
}

#[test]
fn machine_coming_is_the_reason_of_as_many_jobs_as_the_machines_will_take() {
    let mut bench = Bench::of(vec![alike("arm64", "shore/soundings")]);
    let mut view = pool_view(0, true, "");
    view.makes = Some(runner_view(9, 0, 0, 1, RunnerState::Available).subject);
    view.coming = 3;
    bench
        .state
        .apply(Event::Pool(Box::new(view.clone())), bench.now);
    for _ in 0..10 {
        bench.submit(0);
    }
    let segments = |plan: Plan| plan.reasons.into_iter().next_back().unwrap().segments;
    let coming = Segment {
        reason: Reason::MachineComing,
        jobs: Some(3),
    };
    let rest = |reason| Segment { reason, jobs: None };
    assert_eq!(
        segments(bench.plan()),
        [coming.clone(), rest(Reason::MachineComing)]
    );
    view.short = Some("the quota of 3 machines is reached".into());
    bench
        .state
        .apply(Event::Pool(Box::new(view.clone())), bench.now);
    assert_eq!(segments(bench.plan()), [coming, rest(Reason::SupplyShort)]);
    assert_eq!(bench.state.waiting(), 10, "trying changes nothing");
    view.coming = 12;
    bench
        .state
        .apply(Event::Pool(Box::new(view.clone())), bench.now);
    assert_eq!(segments(bench.plan()), [rest(Reason::MachineComing)]);
    view.makes = None;
    view.coming = 0;
    bench.state.apply(Event::Pool(Box::new(view)), bench.now);
    assert_eq!(segments(bench.plan()), [rest(Reason::NoMatch)]);
}

#[test]
fn reach_is_everything_at_or_below_the_owner_narrowed_and_widened() {
    assert!(below("", "firmware/buoy"));
    assert!(below("firmware", "firmware"));
    assert!(below("firmware", "firmware/buoy"));
    assert!(!below("firm", "firmware/buoy"));
    assert!(!below("firmware/buoy", "firmware"));
    let mut pool = pool_view(0, true, "firmware");
    pool.reach.narrow_to.push("firmware/radio".into());
    pool.reach.widen_to.push("shore/soundings".into());
    assert!(pool.reaches(Origin::trusted("firmware/radio/modem")));
    assert!(!pool.reaches(Origin::trusted("firmware/buoy")));
    assert!(pool.reaches(Origin::trusted("shore/soundings")));
    assert!(!pool.reaches(Origin::trusted("shore/api")));
}

#[test]
fn untrusted_jobs_wait_until_a_pool_takes_them_and_trusted_ones_are_unaffected() {
    let stranger = Alike {
        trust: Trust::Untrusted,
        ..alike("linux", "shore/soundings")
    };
    let mut bench = bench(vec![stranger, alike("linux", "shore/soundings")], &[(0, 4)]);
    bench.submit(0);
    bench.submit(1);
    assert_eq!(bench.started(), [1], "only the trusted job starts");
    let strand = StrandId(id(0));
    let reasons = bench.state.reasons_of(strand);
    assert_eq!(reasons[0].reason, Reason::OutOfReach);
    let standing = bench.state.standing(StrandId(id(0))).unwrap();
    assert_eq!((standing.satisfying, standing.in_reach), (1, 0));
    assert_eq!(
        standing.describe(Reason::OutOfReach),
        "1 runner satisfies it, but the project may not use its pool for untrusted jobs"
    );
    bench.take(Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
        also: None,
        takes_untrusted: true,
        paused: false,
        approved: None,
    });
    assert_eq!(bench.started(), [0]);
}

#[test]
fn a_pool_that_asks_for_approval_takes_a_projects_jobs_once_it_is_given_for_good_or_for_one_job() {
    let alike = alike("linux", PROJECTS[0]);
    let asks = |approved| Step::Pool {
        pool: 0,
        open: true,
        owner: 0,
        also: None,
        takes_untrusted: false,
        paused: false,
        approved: Some(approved),
    };
    let mut bench = bench(vec![alike.clone()], &[(0, 1), (0, 1)]);
    bench.take(asks(0));
    bench.take(Step::Submit { strand: 0, ago: 0 });
    assert_eq!(bench.started(), [0; 0]);
    let standing = bench.state.standing(StrandId(id(0))).unwrap();
    assert_eq!(standing.reason(), Reason::NeedsApproval);
    assert_eq!(
        standing.describe(Reason::NeedsApproval),
        "pool-0 asks for approval of the project's first use"
    );
    // For one job: it goes to a strand of its own.
    let approved = StrandId(id(900));
    let Event::Strand {
        mut key, project, ..
    } = strand_event(0, &alike)
    else {
        panic!("it tells of a strand");
    };
    key.approved_in.insert(PoolId(id(0)));
    let event = Event::Strand {
        id: approved,
        key,
        project,
    };
    bench.state.apply(event, bench.now);
    let standing = bench.state.standing(approved).unwrap();
    assert_eq!((standing.in_reach, standing.reason()), (2, Reason::AllBusy));
    // For good.
    bench.take(asks(1));
    assert_eq!(bench.started(), [0]);
}
