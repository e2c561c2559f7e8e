//! Attempts that the runner no longer holds, or does not end.

use crate::runners::{enrol, poll};
use crate::support::{Runner, Service, until};
use pennine_client::{Route, RunnerClient};
use pennine_core::id::SessionId;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::runner_protocol::{Assigned, AttemptPhase, HeldAttempt, Poll};
use pennine_wire::{JobPolicyChange, PoolChange};
use std::time::Duration;
use uuid::Uuid;

/// A runner that only polls, and holds what a test says.
pub struct PollingRunner {
    pub client: RunnerClient,
    pub session: SessionId,
    sequence: u64,
}

impl PollingRunner {
    pub async fn joined(service: &Service) -> PollingRunner {
        let ticket = service.ticket("staithe").await;
        let route = Route::default();
        let client = RunnerClient::new(&service.url, "", &route).unwrap();
        let enrolled = client.enrol(&enrol(&ticket, "fell-01")).await.unwrap();
        PollingRunner {
            client: RunnerClient::new(&service.url, &enrolled.credential, &route).unwrap(),
            session: SessionId(Uuid::now_v7()),
            sequence: 0,
        }
    }

    /// One that has acknowledged a job; with the job's name.
    pub async fn with_a_job(service: &Service) -> (PollingRunner, String, HeldAttempt) {
        let mut runner = PollingRunner::joined(service).await;
        runner.polls(&[]).await;
        let name = service.submit("", "true").await;
        let held = runner.takes_a_job().await;
        (runner, name, held)
    }

    pub async fn polls(&mut self, held: &[HeldAttempt]) -> Vec<Assigned> {
        self.sequence += 1;
        let poll = Poll {
            held: held.to_vec(),
            ..poll(self.session, self.sequence)
        };
        self.client.poll(&poll).await.unwrap().assignments
    }

    /// Polls until a job is assigned, and acknowledges it.
    async fn takes_a_job(&mut self) -> HeldAttempt {
        let begun = std::time::Instant::now();
        let assigned = loop {
            if let Some(assigned) = self.polls(&[]).await.pop() {
                break assigned;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "nothing is assigned"
            );
            tokio::time::sleep(Duration::from_millis(20)).await;
        };
        let held = HeldAttempt {
            attempt: assigned.attempt,
            lease: assigned.lease,
            phase: AttemptPhase::Preparing,
            exited_ago_us: None,
            stopping: None,
        };
        self.polls(&[held]).await;
        held
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_attempt_that_two_polls_of_its_session_do_not_name_is_lost_with_that_reason() {
    let service = Service::start().await;
    service.furnish().await;
    let (mut runner, name, held) = PollingRunner::with_a_job(&service).await;
    // Named again after one poll without it: it may be that an answer was late.
    runner.polls(&[]).await;
    runner.polls(&[held]).await;
    runner.polls(&[]).await;
    let job = service.client.job(&name).await.unwrap();
    assert_eq!((job.attempts.len(), job.attempts[0].result), (1, None));
    runner.polls(&[]).await;
    let job = service
        .job_when(&name, "its attempt is lost", |job| {
            job.attempts[0].result.is_some()
        })
        .await;
    assert_eq!(
        job.attempts[0].message.as_deref(),
        Some("fell-01 no longer holds the job")
    );
    assert_eq!(job.line.result, None, "it is retried");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_cancelled_job_ends_within_its_limit_although_its_runner_never_ends_it() {
    let service = Service::start().await;
    service.furnish().await;
    let (mut runner, name, held) = PollingRunner::with_a_job(&service).await;
    service.client.cancel(&name).await.unwrap();
    // It polls all the time: neither its lease nor its connection ends.
    let begun = std::time::Instant::now();
    let job = loop {
        runner.polls(&[held]).await;
        service.clock.advance(Duration::from_secs(2));
        let job = service.client.job(&name).await.unwrap();
        if job.line.result.is_some() {
            break job;
        }
        assert!(begun.elapsed() < Duration::from_secs(120), "{job:?}");
        tokio::time::sleep(Duration::from_millis(300)).await;
    };
    assert_eq!(job.line.result, Some(Outcome::Cancellation));
    let message = job.attempts[0].message.clone().unwrap();
    assert!(
        message.contains("did not confirm the cancellation"),
        "{message}"
    );
    let runner = service.client.runner("fell-01").await.unwrap();
    assert_ne!(runner.state, RunnerState::Offline);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_destroys_its_own_log_on_disk_still_ends_with_its_own_result() {
    let service = Service::start().await;
    service.furnish().await;
    let open = PoolChange {
        jobs: Some(JobPolicyChange {
            isolation: Some(IsolationLevel::None),
            ..JobPolicyChange::default()
        }),
        ..PoolChange::default()
    };
    service.client.change_pool("staithe", &open).await.unwrap();
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let spool = runner.home.path().join("spool");
    let go = runner.shared("go");
    let script = format!(
        "while [ ! -e {} ]; do sleep 0.1; done; seq 1 20000; exit 3",
        go.display()
    );
    let name = service.submit("", &script).await;
    service
        .job_when(&name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    // What a job that runs as the runner's user can do: the file is emptied again and again while it is written.
    let emptied = tokio::spawn(async move {
        loop {
            for file in std::fs::read_dir(&spool).into_iter().flatten().flatten() {
                if file.path().extension().is_none_or(|end| end != "journal") {
                    let _ = std::fs::File::options()
                        .write(true)
                        .truncate(true)
                        .open(file.path());
                }
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
    });
    std::fs::write(&go, "").unwrap();
    let job = service.done(&name).await;
    emptied.abort();
    assert_eq!(
        (job.line.result, job.exit_code),
        (Some(Outcome::Failure), Some(3)),
        "{job:?}"
    );
    until("the runner takes the next job", || async {
        let runner = service.client.runner("fell-01").await.ok()?;
        (runner.state == RunnerState::Available).then_some(())
    })
    .await;
    let next = service.submit("", "true").await;
    assert_eq!(
        service.done(&next).await.line.result,
        Some(Outcome::Success)
    );
}
