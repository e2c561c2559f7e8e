//! A scarce machine that all share: the executing job, the next jobs, takeover, maintenance.

use crate::support::{Runner, Service, until};
use pennine_core::dispatch::{Band, Reason};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::{Job, NewJob, NewMaintenance, NewProject, RunnerChange, TakeRunnerBack};
use std::time::Duration;

async fn bench() -> (Service, Runner) {
    let service = Service::start().await;
    service.furnish().await;
    service.add_pool("tank", &["bench"]).await;
    let barometer = NewProject {
        name: "barometer".into(),
        team: "firmware".into(),
    };
    service.client.add_project(&barometer).await.unwrap();
    let runner = Runner::working(&service, "tank", "wave-bench", 1).await;
    service
        .runner_when("wave-bench", RunnerState::Available)
        .await;
    (service, runner)
}

fn job(project: &str, band: Band, script: &str) -> NewJob {
    NewJob {
        project: project.into(),
        requirement: "bench".into(),
        command: ["sh", "-c", script].map(str::to_owned).to_vec(),
        band,
        ..NewJob::default()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_viewer_sees_which_job_holds_a_seat_and_which_is_next() {
    let (service, _runner) = bench().await;
    let submit = async |project: &str, band: Band, script: &str| {
        service
            .client
            .submit(&job(project, band, script), None)
            .await
            .unwrap()
            .job
            .name
    };
    let first = submit("buoy", Band::Normal, "sleep 1000").await;
    service
        .job_when(&first, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    let later = submit("buoy", Band::Background, "true").await;
    let mine = submit("buoy", Band::Normal, "true").await;
    let theirs = submit("barometer", Band::Normal, "true").await;
    let urgent = submit("buoy", Band::Urgent, "true").await;
    let elsewhere = service.submit("not bench", "true").await;
    let next: Vec<String> = service
        .client
        .next_on("wave-bench")
        .await
        .unwrap()
        .items
        .into_iter()
        .map(|one| one.job)
        .collect();
    assert!(!next.contains(&elsewhere), "{next:?}");
    assert_eq!(next.first(), Some(&urgent), "{next:?}");
    assert_eq!(next.last(), Some(&later), "{next:?}");
    assert_eq!(next.len(), 4);
    // The forecast is what happens.
    let runner = service.client.runner("wave-bench").await.unwrap();
    assert_eq!(runner.executing[0].job, first);
    assert!(runner.executing[0].started_at.is_some());
    service.client.cancel(&first).await.unwrap();
    let mut started = Vec::new();
    for name in [&urgent, &mine, &theirs, &later] {
        let done = service.done(name).await;
        started.push((done.attempts[0].started_at.unwrap(), name.clone()));
    }
    started.sort();
    let order: Vec<String> = started.into_iter().map(|(_, name)| name).collect();
    assert_eq!(order[0], urgent);
    assert_eq!(order[3], later);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_is_taken_over_is_paused_and_its_job_is_retried_later() {
    let (service, _runner) = bench().await;
    let name = service
        .submit(
            "bench",
            "[ $PENNINE_ATTEMPT_NUMBER = 1 ] && sleep 1000; echo well",
        )
        .await;
    service
        .job_when(&name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    let unsaid = TakeRunnerBack { reason: " ".into() };
    let error = service
        .client
        .take_runner_back("wave-bench", &unsaid)
        .await
        .unwrap_err();
    assert_eq!(error.problem().unwrap().field.as_deref(), Some("reason"));
    let why = "the tank leaks".to_owned();
    let back = service
        .client
        .take_runner_back("wave-bench", &TakeRunnerBack { reason: why })
        .await
        .unwrap();
    assert_eq!(back.ends[0].job, name);
    let job = service
        .job_when(&name, "waits again", |job| {
            job.line.reason == Some(Reason::Paused)
        })
        .await;
    assert!(
        job.attempts[0]
            .message
            .as_deref()
            .unwrap()
            .ends_with("took wave-bench back: the tank leaks")
    );
    until("the bench is idle", || async {
        let runner = service.client.runner("wave-bench").await.ok()?;
        (runner.state == RunnerState::Paused && runner.used == 0).then_some(())
    })
    .await;
    service
        .client
        .set_desired_state(
            "wave-bench",
            pennine_core::lifecycle::runner::DesiredState::Work,
        )
        .await
        .unwrap();
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(job.attempts.len(), 2);
}

/// A job for the bench that waits because the bench takes no jobs; earlier jobs are done.
async fn one_that_waits(service: &Service) -> String {
    until("a job waits because of maintenance", || async {
        let name = service.submit("bench", "echo well").await;
        let settled =
            |job: &Job| job.line.result.is_some() || job.line.reason == Some(Reason::Paused);
        let job = service
            .job_when(&name, "has a reason or a result", settled)
            .await;
        job.line.result.is_none().then_some(name)
    })
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn maintenance_begins_and_ends_by_itself_and_waiting_jobs_say_so() {
    let (service, _runner) = bench().await;
    let hour = Duration::from_secs(3600);
    let now = service.client.status().await.unwrap().now;
    let new = NewMaintenance {
        runner: Some("wave-bench".into()),
        from: Some(now + hour),
        length_us: hour.into(),
        reason: "new water".into(),
        ..NewMaintenance::default()
    };
    let planned = service.client.add_maintenance(&new).await.unwrap();
    assert!(!planned.on);
    let before = service.submit("bench", "echo before").await;
    assert_eq!(
        service.done(&before).await.line.result,
        Some(Outcome::Success)
    );
    let on = async || {
        service
            .client
            .maintenance()
            .await
            .unwrap()
            .items
            .first()
            .is_some_and(|one| one.on)
    };
    // Little by little: runners are heard of in between.
    for _ in 0..370 {
        service.clock.advance(Duration::from_secs(10));
        if on().await {
            break;
        }
    }
    assert!(on().await);
    service
        .runner_when("wave-bench", RunnerState::Available)
        .await;
    // The leader looks once a second.
    let waiting = one_that_waits(&service).await;
    let remedy = format!("pennine maintenance end {}", planned.name);
    until("the remedy is shown", || async {
        let actions = service.client.why(&waiting).await.ok()?.actions;
        let remedies: Vec<&str> = actions.iter().map(|one| one.command.as_str()).collect();
        (remedies == [remedy.as_str()]).then_some(())
    })
    .await;
    let checked = service.client.check_runner("wave-bench").await.unwrap();
    let willing = checked
        .findings
        .iter()
        .find(|one| one.check == "accepts jobs")
        .unwrap();
    assert!(willing.message.contains("new water"), "{}", willing.message);
    service.client.end_maintenance(&planned.name).await.unwrap();
    assert_eq!(
        service.done(&waiting).await.line.result,
        Some(Outcome::Success)
    );
    assert!(service.client.end_maintenance(&planned.name).await.is_err());
}

/// The leader looks at the calendar once a second. It hears of the runner after the maintenance began and before it looked, and
/// then that the maintenance has ended.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn maintenance_that_ends_just_after_it_began_keeps_the_runner_from_nothing() {
    let (service, _runner) = bench().await;
    for _ in 0..5 {
        let begins_in = Duration::from_secs(10);
        let new = NewMaintenance {
            runner: Some("wave-bench".into()),
            from: Some(service.client.status().await.unwrap().now + begins_in),
            length_us: Duration::from_secs(3600).into(),
            reason: "new water".into(),
            ..NewMaintenance::default()
        };
        let planned = service.client.add_maintenance(&new).await.unwrap();
        service.clock.advance(begins_in);
        let change = RunnerChange {
            description: Some(format!("before {}", planned.name)),
            ..RunnerChange::default()
        };
        let client = &service.client;
        client.change_runner("wave-bench", &change).await.unwrap();
        client.end_maintenance(&planned.name).await.unwrap();
        let job = service.submit("bench", "echo well").await;
        let job = service.done(&job).await;
        assert_eq!(job.line.result, Some(Outcome::Success));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn invalid_maintenance_is_refused_at_the_field() {
    let (service, _runner) = bench().await;
    let new = NewMaintenance {
        runner: Some("wave-bench".into()),
        length_us: Duration::from_secs(3600).into(),
        reason: "new water".into(),
        ..NewMaintenance::default()
    };
    for (wrong, field) in [
        (
            NewMaintenance {
                reason: String::new(),
                ..new.clone()
            },
            "reason",
        ),
        (
            NewMaintenance {
                length_us: Duration::ZERO.into(),
                ..new.clone()
            },
            "length_us",
        ),
        (
            NewMaintenance {
                pool: Some("tank".into()),
                ..new.clone()
            },
            "pool",
        ),
        (
            NewMaintenance {
                runner: Some("absent".into()),
                ..new.clone()
            },
            "runner",
        ),
    ] {
        let error = service.client.add_maintenance(&wrong).await.unwrap_err();
        assert_eq!(error.problem().unwrap().field.as_deref(), Some(field));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn maintenance_of_a_whole_pool_begins_at_once() {
    let (service, _runner) = bench().await;
    let new = NewMaintenance {
        pool: Some("tank".into()),
        length_us: Duration::from_secs(3600).into(),
        reason: "the floor is painted".into(),
        ..NewMaintenance::default()
    };
    let now = service.client.add_maintenance(&new).await.unwrap();
    assert!(now.on);
    let name = one_that_waits(&service).await;
    service.client.end_maintenance(&now.name).await.unwrap();
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
}
