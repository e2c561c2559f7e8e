//! Jobs from submission to result, on the real runner.

use crate::support::{Runner, Service};
use pennine_core::dispatch::Reason;
use pennine_core::id::JobId;
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::outcome::{JobOutcome, Loss, after_loss};
use pennine_core::time::Micros;
use pennine_store::attempt::loss::{self, WriteResult};
use pennine_store::change::Change;
use pennine_store::connect::PoolSizes;
use pennine_wire::{Job, NewJob};
use pennined::operations::runners::attempts::lose;
use std::collections::BTreeMap;
use std::time::Duration;

/// The parts of every attempt's wait add up to it, and those of all attempts to the job's.
fn check_waits(job: &Job) {
    for attempt in &job.attempts {
        let sum: u64 = attempt.wait.iter().map(|span| span.length_us.0).sum();
        assert_eq!(sum, attempt.wait_us.0, "{attempt:?}");
    }
    let open: u64 = job.waiting.iter().map(|span| span.length_us.0).sum();
    let all: u64 = job
        .attempts
        .iter()
        .map(|attempt| attempt.wait_us.0)
        .sum::<u64>()
        + open;
    assert_eq!(all, job.line.wait_us.0, "{job:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_runs_on_a_runner_that_satisfies_it_and_everything_about_it_can_be_read() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let new = NewJob {
        project: "firmware/buoy".into(),
        requirement: "linux and has bash".into(),
        command: [
            "sh",
            "-c",
            "pwd; echo \"$GREETING from $PENNINE_RUNNER\"; ls -A",
        ]
        .map(str::to_owned)
        .to_vec(),
        variables: BTreeMap::from([("GREETING".to_owned(), "hello".to_owned())]),
        ..NewJob::default()
    };
    let name = service.client.submit(&new, None).await.unwrap().job.name;
    let job = service.done(&name).await;
    assert_eq!(
        (job.line.result, job.exit_code),
        (Some(Outcome::Success), Some(0))
    );
    assert_eq!(job.line.runner.as_deref(), Some("fell-01"));
    let attempt = &job.attempts[0];
    assert!(attempt.accepted && attempt.processor_us.is_some() && attempt.peak_memory.is_some());
    let times = [
        Some(attempt.ready_at),
        Some(attempt.assigned_at),
        attempt.started_at,
        attempt.exited_at,
        attempt.finished_at,
    ];
    assert!(
        times.is_sorted() && times.iter().all(Option::is_some),
        "{times:?}"
    );
    check_waits(&job);
    let log = String::from_utf8(service.log(&name).await).unwrap();
    for part in [
        "attempt 1",
        "runner fell-01 in the pool staithe",
        "satisfied here: linux and has bash",
        "hello from fell-01\n",
        "exit code 0",
    ] {
        assert!(log.contains(part), "{part} is missing in:\n{log}");
    }
    // The workspace is fresh and empty: between `ls` and the runner's last line nothing stands.
    assert!(
        log.contains("hello from fell-01\npennine: exit code 0"),
        "{log}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failing_command_fails_the_job_without_a_retry() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let job = service.done(&service.submit("", "exit 7").await).await;
    assert_eq!(
        (job.line.result, job.exit_code),
        (Some(Outcome::Failure), Some(7))
    );
    assert_eq!(job.attempts.len(), 1);
    let job = service.done(&service.submit("", "kill -9 $$").await).await;
    assert_eq!(
        job.message.as_deref(),
        Some("the command was ended by signal 9")
    );
    let missing = NewJob {
        project: "buoy".into(),
        command: vec!["no-such-command".into()],
        ..NewJob::default()
    };
    let name = service
        .client
        .submit(&missing, None)
        .await
        .unwrap()
        .job
        .name;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Error));
    assert!(
        job.message
            .unwrap()
            .contains("\"no-such-command\" does not exist on")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_past_its_time_limit_is_terminated_and_then_killed_with_its_descendants() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let new = NewJob {
        project: "buoy".into(),
        command: [
            "sh",
            "-c",
            "trap 'echo asked; exit 5' TERM; sleep 1000 & wait",
        ]
        .map(str::to_owned)
        .to_vec(),
        time_limit_us: Some(Micros::from(Duration::from_millis(300))),
        ..NewJob::default()
    };
    let name = service.client.submit(&new, None).await.unwrap().job.name;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Timeout));
    let log = String::from_utf8(service.log(&name).await).unwrap();
    assert!(
        log.contains("time limit of 300 ms") && log.contains("\nasked\n"),
        "{log}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_waiting_job_is_cancelled_at_once_and_a_running_one_by_its_runner() {
    let service = Service::start().await;
    service.furnish().await;
    let waiting = service.submit("no-such-label", "true").await;
    let job = service.client.cancel(&waiting).await.unwrap();
    assert_eq!(job.line.result, Some(Outcome::Cancellation));
    assert_eq!(job.message.as_deref(), Some("cancelled by admin"));
    check_waits(&service.client.job(&waiting).await.unwrap());
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let running = service.submit("", "echo begun; exec sleep 1000").await;
    service
        .job_when(&running, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    service.client.cancel(&running).await.unwrap();
    let job = service.done(&running).await;
    assert_eq!(job.line.result, Some(Outcome::Cancellation));
    assert!(
        String::from_utf8(service.log(&running).await)
            .unwrap()
            .contains("cancelled by admin")
    );
    let again = service
        .client
        .cancel(&running)
        .await
        .expect("cancelling twice does no harm");
    assert_eq!(again.line.result, Some(Outcome::Cancellation));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_nothing_can_run_waits_says_why_and_runs_when_something_can() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service
        .runner_when(
            "fell-01",
            pennine_core::lifecycle::runner::RunnerState::Available,
        )
        .await;
    let taken = service
        .client
        .submit(
            &NewJob {
                project: "buoy".into(),
                requirement: "linux and bnech".into(),
                command: vec!["true".into()],
                ..NewJob::default()
            },
            None,
        )
        .await
        .unwrap();
    assert_eq!(taken.hints[0].word, "bnech");
    let name = taken.job.name;
    service
        .job_when(&name, "no-match", |job| {
            job.line.reason == Some(Reason::NoMatch)
        })
        .await;
    let why = service.client.why(&name).await.unwrap();
    assert!(
        why.message
            .contains("no runner satisfies it. The nearest runner is fell-01, which fails: bnech."),
        "{}",
        why.message
    );
    assert!(why.remedy.is_some());
    let queue = service.queue_when(|queue| queue.waiting == 1).await;
    assert_eq!(
        (
            queue.waiting,
            queue.groups[0].reason,
            queue.groups[0].needs_a_person
        ),
        (1, Reason::NoMatch, true)
    );
    let status = service.client.status().await.unwrap();
    assert!(
        status.answer.contains("It needs your attention."),
        "{}",
        status.answer
    );
    service.add_pool("tank", &["bnech"]).await;
    let _bench = Runner::working(&service, "tank", "wave-bench", 1).await;
    let job = service.done(&name).await;
    assert_eq!(job.line.runner.as_deref(), Some("wave-bench"));
    let log = String::from_utf8(service.log(&name).await).unwrap();
    assert!(
        log.contains("satisfied here: bnech and linux"),
        "its pool's label counts: {log}"
    );
    assert!(
        job.attempts[0]
            .wait
            .iter()
            .any(|span| span.reason == Reason::NoMatch)
    );
    check_waits(&job);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn jobs_beyond_the_free_slots_wait_for_them_in_order() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let first = service.submit("", "while ! [ -e /proc/self/nothing ] && [ ! -e $PENNINE_WORKSPACE/go ]; do sleep 0.05; done").await;
    service
        .job_when(&first, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    let waiting = [
        service.submit("", "true").await,
        service.submit("linux", "true").await,
        service.submit("", "true").await,
    ];
    for name in &waiting {
        service
            .job_when(name, "all-busy", |job| {
                job.line.reason == Some(Reason::AllBusy)
            })
            .await;
    }
    let why = service.client.why(&waiting[2]).await.unwrap();
    assert_eq!(why.before, 1, "one job of its own strand stands before it");
    assert!(
        why.message.contains("the 1 runner that can run it is busy"),
        "{}",
        why.message
    );
    service.client.cancel(&first).await.unwrap();
    let mut started = Vec::new();
    for name in &waiting {
        let job = service.done(name).await;
        check_waits(&job);
        started.push(job.line.started_at);
    }
    assert!(started.is_sorted(), "{started:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_recorded_events_of_a_job_fold_into_its_state() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    let names = [
        service.submit("", "true").await,
        service.submit("", "exit 1").await,
        service.submit("nowhere", "true").await,
    ];
    service.done(&names[0]).await;
    service.done(&names[1]).await;
    service.client.cancel(&names[2]).await.unwrap();
    let waiting = service.submit("nowhere", "true").await;
    let store = pennine_store::Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    for name in names.iter().chain([&waiting]) {
        let job = service.client.job(name).await.unwrap();
        let JobId(id) = job.line.id;
        let mut connection = store.people().await.unwrap();
        let mut state = JobState::Held.after(JobEvent::Release).unwrap();
        for change in pennine_store::outbox::of_subject(&mut connection, id)
            .await
            .unwrap()
        {
            let event = match change.change.unwrap() {
                Change::JobPending { again: false, .. } => continue,
                Change::JobPending { .. } => JobEvent::Retry,
                Change::JobStarted { .. } => JobEvent::Start,
                Change::JobFinalizing { .. } => JobEvent::Exit,
                Change::JobDone { .. } => JobEvent::Finish,
                Change::JobCancelling { .. } => continue,
                other => panic!("{name} has an event {other:?}"),
            };
            state = state.after(event).unwrap_or_else(|e| panic!("{name}: {e}"));
        }
        assert_eq!(state, job.line.state, "{name}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_loss_that_was_decided_before_a_cancellation_is_decided_again() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service.submit("", "sleep 1000").await;
    let executing = |job: &Job| job.line.state == JobState::Executing;
    let job = service.job_when(&name, "executing", executing).await;
    let attempt = job.attempts[0].id;
    let store = pennine_store::Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let (seen, runner) = loss::job_of(&mut connection, attempt)
        .await
        .unwrap()
        .expect("it is not over");
    let lost = Loss {
        message: "fell-01 was restarted and lost the job".to_owned(),
        counts: true,
    };
    let now = service.clock.now();
    let outcome = after_loss(&seen, &lost, runner, now);
    assert!(matches!(outcome, JobOutcome::Retry { .. }), "{outcome:?}");
    // Its cancellation is requested meanwhile; not over the API, or the runner would end it by itself.
    let other = service.database.connect().await;
    let JobId(id) = job.line.id;
    let changed = other
        .execute(
            "update job set cancel_at = clock_timestamp(), cancel_by = 'ada' where id::text = $1",
            &[&id.to_string()],
        )
        .await
        .unwrap();
    assert_eq!(changed, 1);
    let written = loss::end_lost(&mut connection, None, attempt, &lost, &seen, &outcome, now);
    assert_eq!(written.await.unwrap(), WriteResult::Stale);
    let untouched = service.client.job(&name).await.unwrap();
    assert_eq!(untouched.line.state, JobState::Executing);
    assert!(
        lose(
            &mut connection,
            None,
            attempt,
            &lost,
            Some((seen, runner)),
            now
        )
        .await
        .unwrap()
    );
    let done = service.done(&name).await;
    assert_eq!(done.line.result, Some(Outcome::Cancellation));
    assert_eq!(done.message.as_deref(), Some("cancelled by ada"));
    let again = lose(&mut connection, None, attempt, &lost, None, now).await;
    assert!(!again.unwrap(), "it is over already");
}
