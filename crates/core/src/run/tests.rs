use super::*;
use proptest::prelude::*;

fn job(name: &str, state: JobState, result: Option<Outcome>, needs: &[(usize, bool)]) -> GraphJob {
    let need = |(job, success): &(usize, bool)| Need {
        job: *job,
        success: *success,
    };
    GraphJob {
        name: name.to_owned(),
        state,
        result,
        needs: needs.iter().map(need).collect(),
        on_failure: OnFailure::Stop,
        needs_release: false,
        is_assigned: false,
        is_settled: false,
    }
}

fn held(name: &str, needs: &[(usize, bool)]) -> GraphJob {
    job(name, JobState::Held, None, needs)
}

fn done(name: &str, result: Outcome) -> GraphJob {
    job(name, JobState::Done, Some(result), &[])
}

fn skip(message: &str) -> Step {
    Step::Skip {
        message: message.to_owned(),
    }
}

#[test]
fn a_job_is_ready_once_everything_that_it_needs_has_succeeded() {
    let mut jobs = vec![
        job("build", JobState::Executing, None, &[]),
        done("fetch", Outcome::Success),
        held("test", &[(0, true), (1, true)]),
    ];
    assert_eq!(advance(&jobs), []);
    assert_eq!(
        held_for(&jobs[2], &jobs).as_deref(),
        Some("waits for build")
    );
    jobs[0] = done("build", Outcome::Success);
    assert_eq!(advance(&jobs), [(2, Step::Ready)]);
    jobs[2].needs_release = true;
    assert_eq!(advance(&jobs), []);
    assert_eq!(
        held_for(&jobs[2], &jobs).as_deref(),
        Some("waits for a person to release it")
    );
}

#[test]
fn a_failure_skips_what_has_not_started_and_what_only_follows_it_runs() {
    let mut assigned = job("lint", JobState::Pending, None, &[]);
    assigned.is_assigned = true;
    let jobs = vec![
        done("build", Outcome::Failure),
        held("test", &[(0, true)]),
        held("release", &[(1, true)]),
        job("docs", JobState::Pending, None, &[]),
        assigned,
        job("scan", JobState::Executing, None, &[]),
        held("report", &[(0, false), (1, false)]),
        held("tidy", &[(5, false)]),
    ];
    let steps = advance(&jobs);
    assert_eq!(
        steps,
        [
            (1, skip("skipped: build failed")),
            (2, skip("skipped: build failed")),
            (3, skip("skipped: build failed")),
            (6, Step::Ready),
        ]
    );
}

#[test]
fn with_continue_only_what_needs_the_success_is_skipped() {
    let mut failed = done("build", Outcome::Timeout);
    failed.on_failure = OnFailure::Continue;
    let jobs = vec![
        failed,
        held("test", &[(0, true)]),
        held("release", &[(1, true)]),
        job("docs", JobState::Pending, None, &[]),
    ];
    assert_eq!(
        advance(&jobs),
        [
            (1, skip("skipped: build timed out")),
            (2, skip("skipped: test was skipped"))
        ]
    );
}

#[test]
fn a_cancelled_job_stops_only_what_needs_it() {
    let jobs = vec![
        done("build", Outcome::Cancellation),
        held("test", &[(0, true)]),
        job("docs", JobState::Pending, None, &[]),
    ];
    assert_eq!(advance(&jobs), [(1, skip("skipped: build was cancelled"))]);
}

#[test]
fn only_a_failure_of_the_command_is_tried_again_and_only_where_asked() {
    assert!(is_retried(OnFailure::Retry, Outcome::Failure, 1, 2));
    assert!(!is_retried(OnFailure::Retry, Outcome::Failure, 2, 2));
    assert!(!is_retried(OnFailure::Retry, Outcome::Timeout, 1, 2));
    assert!(!is_retried(OnFailure::Stop, Outcome::Failure, 1, 2));
}

#[test]
fn a_retry_includes_what_was_skipped_and_a_failure_before_it_no_longer_stops() {
    let mut jobs = vec![
        done("build", Outcome::Success),
        done("unit", Outcome::Failure),
        done("lint", Outcome::Failure),
        job(
            "package",
            JobState::Done,
            Some(Outcome::Skip),
            &[(0, true), (1, true)],
        ),
        job(
            "report",
            JobState::Done,
            Some(Outcome::Success),
            &[(1, false)],
        ),
        job("publish", JobState::Executing, None, &[(0, true)]),
    ];
    assert_eq!(to_retry(&jobs, &[1], false), [1, 3]);
    assert_eq!(to_retry(&jobs, &[1], true), [1, 3, 4]);
    assert!(to_retry(&jobs, &[5], true).is_empty());
    jobs[1] = held("unit", &[]);
    assert_eq!(advance(&jobs), [(1, skip("skipped: lint failed"))]);
    jobs[2].is_settled = true;
    assert_eq!(advance(&jobs), [(1, Step::Ready)]);
}

#[test]
fn a_run_is_as_its_jobs_are() {
    use JobState as S;
    assert_eq!(state([S::Done, S::Held]), RunState::Held);
    assert_eq!(state([S::Held, S::Pending, S::Held]), RunState::Pending);
    assert_eq!(state([S::Pending, S::Finalizing]), RunState::Executing);
    assert_eq!(state([S::Done]), RunState::Done);
    assert_eq!(outcome([Outcome::Success, Outcome::Skip]), Outcome::Success);
    assert_eq!(
        outcome([Outcome::Failure, Outcome::Cancellation]),
        Outcome::Failure
    );
    assert_eq!(outcome([Outcome::Skip]), Outcome::Skip);
}

#[test]
fn the_critical_path_goes_back_from_the_last_end_to_what_it_waited_for_longest() {
    let at = |seconds: i64| Some(Moment::from_micros(seconds * 1_000_000));
    let need = |job: usize| Need { job, success: true };
    let (none, after_first, after_both): (&[Need], &[Need], &[Need]) =
        (&[], &[need(0)], &[need(1), need(2)]);
    let ends = [at(10), at(30), at(25), at(40), None, at(35)];
    let needs = [none, after_first, after_first, after_both, after_both, none];
    assert_eq!(critical_path(&ends, &needs), [0, 1, 3]);
    assert!(critical_path(&[None, None], &[none, none]).is_empty());
}

/// A graph without cycles: each job needs some of those before it, in an order that is then mixed.
#[derive(Clone, Debug)]
struct Plan {
    jobs: Vec<GraphJob>,
    /// How each would end.
    ends: Vec<Outcome>,
}

fn plans(on_failure: BoxedStrategy<OnFailure>) -> impl Strategy<Value = Plan> {
    let end = prop_oneof![
        4 => Just(Outcome::Success),
        1 => Just(Outcome::Failure),
        1 => Just(Outcome::Error),
        1 => Just(Outcome::Cancellation),
    ];
    let one = (
        proptest::collection::vec(
            (any::<prop::sample::Index>(), prop::bool::weighted(0.8)),
            0..4,
        ),
        on_failure,
        prop::bool::weighted(0.2),
        end,
    );
    (proptest::collection::vec(one, 1..9), any::<u64>()).prop_map(|(parts, mix)| {
        let count = parts.len();
        // The places of the jobs in the run: a sheet may name a job before those that it needs.
        let mut places: Vec<usize> = (0..count).collect();
        places.rotate_left(usize::try_from(mix % count as u64).unwrap_or(0));
        let mut jobs = vec![held("", &[]); count];
        let mut ends = vec![Outcome::Success; count];
        for (number, (needs, on_failure, needs_release, end)) in parts.into_iter().enumerate() {
            let place = places[number];
            let mut own: Vec<(usize, bool)> = Vec::new();
            for (index, success) in needs.iter().filter(|_| number > 0) {
                let needed = places[index.index(number)];
                if own.iter().all(|(job, _)| *job != needed) {
                    own.push((needed, *success));
                }
            }
            let mut made = held(&format!("job {place}"), &own);
            made.on_failure = on_failure;
            made.needs_release = needs_release;
            jobs[place] = made;
            ends[place] = end;
        }
        Plan { jobs, ends }
    })
}

/// Carries a run out, one event at a time in the order that `choices` gives, and checks that no job starts too early.
fn carry_out(plan: &Plan, choices: &[u16]) -> Vec<GraphJob> {
    let mut jobs = plan.jobs.clone();
    let mut choices = choices.iter().cycle();
    for _ in 0..10_000 {
        for (position, step) in advance(&jobs) {
            let own = &mut jobs[position];
            match step {
                Step::Ready => {
                    assert_eq!(own.state, JobState::Held);
                    own.state = JobState::Pending;
                }
                Step::Skip { .. } => {
                    (own.state, own.result) = (JobState::Done, Some(Outcome::Skip));
                }
            }
        }
        assert_eq!(advance(&jobs), [], "one call finds everything that follows");
        let open: Vec<usize> = (0..jobs.len())
            .filter(|at| match jobs[*at].state {
                JobState::Held => jobs[*at].needs_release,
                JobState::Pending | JobState::Executing => true,
                JobState::Finalizing | JobState::Done => false,
            })
            .collect();
        if open.is_empty() {
            return jobs;
        }
        let chosen = open[usize::from(*choices.next().unwrap_or(&0)) % open.len()];
        match jobs[chosen].state {
            JobState::Held => jobs[chosen].needs_release = false,
            JobState::Pending => {
                for need in &jobs[chosen].needs {
                    let needed = &jobs[need.job];
                    let is_enough = match need.success {
                        true => needed.result == Some(Outcome::Success),
                        false => needed.state == JobState::Done,
                    };
                    assert!(
                        is_enough,
                        "{} started before {}",
                        jobs[chosen].name, needed.name
                    );
                }
                jobs[chosen].state = JobState::Executing;
                jobs[chosen].is_assigned = true;
            }
            _ => {
                jobs[chosen].state = JobState::Done;
                jobs[chosen].result = Some(plan.ends[chosen]);
            }
        }
    }
    panic!("the run does not end: {jobs:?}");
}

proptest! {
    #[test]
    fn nothing_starts_too_early_and_nothing_is_left_over(
        plan in plans(prop_oneof![Just(OnFailure::Stop), Just(OnFailure::Continue)].boxed()),
        choices in proptest::collection::vec(any::<u16>(), 1..40),
    ) {
        let jobs = carry_out(&plan, &choices);
        prop_assert!(jobs.iter().all(|job| job.state == JobState::Done && job.result.is_some()), "{jobs:?}");
    }

    #[test]
    fn any_order_of_events_ends_in_the_same_state(
        plan in plans(Just(OnFailure::Continue).boxed()),
        one in proptest::collection::vec(any::<u16>(), 1..40),
        other in proptest::collection::vec(any::<u16>(), 1..40),
    ) {
        let results = |choices: &[u16]| -> Vec<Option<Outcome>> {
            carry_out(&plan, choices).iter().map(|job| job.result).collect()
        };
        prop_assert_eq!(results(&one), results(&other));
    }
}
