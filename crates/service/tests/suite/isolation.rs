//! What a pool's policy does to its jobs, and what a runner's credential cannot do.

use crate::support::{Runner, Service, until};
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::id::{LeaseToken, SessionId};
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_wire::runner_protocol::FinishedReport;
use pennine_wire::{JobPolicyChange, PoolChange};
use std::path::Path;
use uuid::Uuid;

async fn set(service: &Service, jobs: JobPolicyChange) -> Result<(), ClientError> {
    let change = PoolChange {
        jobs: Some(jobs),
        ..PoolChange::default()
    };
    service
        .client
        .change_pool("staithe", &change)
        .await
        .map(drop)
}

async fn log_of(service: &Service, script: &str) -> String {
    let name = service.submit("", script).await;
    service.done(&name).await;
    String::from_utf8_lossy(&service.log(&name).await).into_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pools_policy_reaches_its_next_jobs_and_an_invalid_one_is_refused_at_the_field() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let log = log_of(&service, "touch /etc/pennine-seen || echo refused").await;
    assert!(log.contains("\npennine: isolation process: as "), "{log}");

    let sandbox = JobPolicyChange {
        isolation: Some(IsolationLevel::Sandbox),
        network: Some(false),
        ..JobPolicyChange::default()
    };
    set(&service, sandbox).await.unwrap();
    let log = log_of(&service, "touch /etc/pennine-seen || echo refused").await;
    assert!(
        log.contains("isolation sandbox: ") && log.contains("no network"),
        "{log}"
    );
    assert!(log.contains("\nrefused\n"), "{log}");
    assert_eq!(
        service.client.pool("staithe").await.unwrap().jobs.isolation,
        IsolationLevel::Sandbox
    );

    let little = JobPolicyChange {
        memory: Some(ByteSize(1 << 20)),
        ..JobPolicyChange::default()
    };
    let refused = set(&service, little).await.unwrap_err();
    let problem = refused.problem().unwrap();
    assert_eq!(problem.field.as_deref(), Some("jobs.memory"));
    let before = service.client.pool("staithe").await.unwrap().jobs;
    assert_eq!((before.network, before.limits.memory), (false, None));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_exceeds_a_measured_limit_of_disk_is_ended_and_the_next_one_runs() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    // A job that is not isolated has no disk of its own.
    let disk = JobPolicyChange {
        isolation: Some(IsolationLevel::None),
        disk: Some(ByteSize(16 << 20)),
        ..JobPolicyChange::default()
    };
    set(&service, disk).await.unwrap();
    let script = "head -c 64000000 /dev/zero > big; echo written; sleep 1000";
    let name = service.submit("", script).await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Failure));
    let message = job.message.unwrap_or_default();
    assert!(
        message.starts_with("limit of 16MiB of disk exceeded"),
        "{message}"
    );
    let log = log_of(&service, "ls; echo well").await;
    assert!(log.contains("limits: disk 16MiB (measured)"), "{log}");
    assert!(
        log.contains("\nwell\n") && !log.contains("\nbig\n"),
        "{log}"
    );
    // No disk is made as large as this, even by a runner that is root.
    let large = JobPolicyChange {
        isolation: Some(IsolationLevel::Process),
        disk: Some(ByteSize(2 << 40)),
        ..JobPolicyChange::default()
    };
    set(&service, large).await.unwrap();
    let log = log_of(&service, "echo well").await;
    assert!(log.contains("limits: disk 2TiB (measured)"), "{log}");
    assert!(log.contains("\nwell\n"), "{log}");
}

/// The devices that stand for files below a folder.
fn disks_below(folder: &Path) -> Vec<String> {
    let devices = std::fs::read_dir("/sys/block").unwrap().flatten();
    let files = devices
        .filter_map(|device| std::fs::read_to_string(device.path().join("loop/backing_file")).ok());
    let folder = folder.display().to_string();
    files.filter(|file| file.starts_with(&folder)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_with_a_disk_of_its_own_cannot_write_more_and_leaves_nothing() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    for isolation in [IsolationLevel::Process, IsolationLevel::Sandbox] {
        let disk = JobPolicyChange {
            isolation: Some(isolation),
            disk: Some(ByteSize(16 << 20)),
            ..JobPolicyChange::default()
        };
        set(&service, disk).await.unwrap();
        // What is below the limit fits, in every part of the job's folder; then nothing does, however it is written.
        let script = "set -e; ls -A \"$PENNINE_WORKSPACE/..\"; head -c 12000000 /dev/zero > $HOME/most; echo fits; \
                      (head -c 9000000 /dev/zero > /tmp/more) 2>&1 || echo full; rm -f /tmp/more; \
                      head -c 3000000 /dev/zero > again; echo again; head -c 9000000 /dev/zero > too-much";
        let name = service.submit("", script).await;
        let job = service.done(&name).await;
        let log = String::from_utf8_lossy(&service.log(&name).await).into_owned();
        if log.contains("disk 16MiB (measured)") {
            eprintln!(
                "SKIPPED: this user may not make file systems here, so jobs have no disk of their own"
            );
            return;
        }
        assert!(log.contains("limits: disk 16MiB (enforced)"), "{log}");
        assert!(log.contains("\nhome\ntmp\nworkspace\nfits\n"), "{log}");
        assert!(log.contains("\nfull\nagain\n"), "{log}");
        assert_eq!(job.line.result, Some(Outcome::Failure), "{log}");
        let message = job.message.unwrap_or_default();
        assert_eq!(message, "limit of 16MiB of disk reached", "{log}");
        let next = log_of(
            &service,
            "head -c 12000000 /dev/zero > most; ls $HOME; echo well",
        )
        .await;
        assert!(
            next.contains("\nwell\n") && !next.contains("\nmost\n"),
            "{next}"
        );
    }
    // The keeper that waits for the next job has one; with the runner it goes.
    runner.kill();
    until("no disk is left", || async {
        disks_below(runner.home.path()).is_empty().then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_report_about_another_runners_attempt_changes_neither_the_attempt_nor_its_log() {
    let service = Service::start().await;
    service.furnish().await;
    let _holder = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let go = service.shared("go");
    let script = format!(
        "while ! [ -e {} ]; do sleep 0.05; done; echo on",
        go.display()
    );
    let name = service.submit("", &script).await;
    let job = service
        .job_when(&name, "executing", |job| job.line.started_at.is_some())
        .await;
    let thief = Runner::working(&service, "staithe", "fell-02", 1).await;
    service.runner_when("fell-02", RunnerState::Available).await;
    let identity = std::fs::read(thief.home.path().join("runner.json")).unwrap();
    let identity: serde_json::Value = serde_json::from_slice(&identity).unwrap();
    let credential = identity["credential"].as_str().unwrap();
    let client = RunnerClient::new(&service.url, credential, &Route::default()).unwrap();

    // Even with the lease, which only its holder knows, and the right length of the log.
    let attempt = job.attempts[0].id;
    let query = format!("select lease::text from attempt where id = '{attempt}'");
    let lease: Uuid = service.database.texts(&query).await[0].parse().unwrap();
    for lease in [LeaseToken(lease), LeaseToken(Uuid::new_v4())] {
        let finished = FinishedReport {
            session: SessionId(Uuid::now_v7()),
            lease,
            result: Outcome::Success,
            exit_code: Some(0),
            message: None,
            exited_ago_us: Micros(0),
            phases: Default::default(),
            processor_us: None,
            peak_memory: None,
            bytes_read: None,
            bytes_written: None,
            log_bytes: job.attempts[0].log_bytes,
            log_capped: false,
            started_ago_us: None,
        };
        let refused = client.finished(attempt, &finished).await.unwrap_err();
        assert_eq!(refused.problem().unwrap().word(), "stale-lease");
    }
    std::fs::write(&go, "").unwrap();
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
    let log = String::from_utf8_lossy(&service.log(&name).await).into_owned();
    assert!(log.contains("\non\n"), "the log was not closed: {log}");
}
