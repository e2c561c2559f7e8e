//! What may fail, fails: runners, answers, the service, the database, connections.

use crate::runner_faults::{lives, mark};
use crate::support::{
    Cutter, Runner, Service, ServiceProcess, config, exposed, free_port, shared, token_in, until,
    wall_clock,
};
use pennine_client::{Client, Route};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::{Job, NewJob, NewPool, NewProject, NewTeam};
use sha2::{Digest, Sha256};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_killed_runner_leaves_no_process_and_its_job_is_retried_on_another() {
    let service = Service::start().await;
    service.furnish().await;
    let mut first = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let mark = mark();
    // The first attempt hangs, with a detached child; the second ends at once.
    let script = format!(
        "if [ $PENNINE_ATTEMPT_NUMBER = 1 ]; then setsid sh -c 'sleep 1000; : {mark}' & echo begun; sleep 1000; fi; echo well"
    );
    let name = service.submit("", &script).await;
    service
        .job_when(&name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    until("the job's detached child lives", || async {
        lives(&mark).then_some(())
    })
    .await;
    let _second = Runner::working(&service, "staithe", "fell-02", 1).await;
    service.runner_when("fell-02", RunnerState::Available).await;
    first.kill();
    until("nothing of the job lives on", || async {
        (!lives(&mark)).then_some(())
    })
    .await;
    service.time_passes(Duration::from_secs(31)).await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    let told: Vec<_> = job
        .attempts
        .iter()
        .map(|one| (one.runner.as_str(), one.result, one.accepted))
        .collect();
    let lost = ("fell-01", Some(Outcome::Error), false);
    assert_eq!(told, [lost, ("fell-02", Some(Outcome::Success), true)]);
    let message = job.attempts[0].message.as_deref().unwrap();
    assert!(
        message.contains("fell-01 has not reported for"),
        "{message}"
    );
    let wait: u64 = job.attempts.iter().map(|one| one.wait_us.0).sum();
    assert_eq!(
        wait, job.line.wait_us.0,
        "a job's wait is the sum of its attempts'"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_comes_back_without_its_job_frees_it_at_once() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service
        .submit("", "[ $PENNINE_ATTEMPT_NUMBER = 1 ] && sleep 1000; true")
        .await;
    service
        .job_when(&name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    runner.kill();
    runner.work();
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(
        job.attempts[0].message.as_deref(),
        Some("fell-01 was restarted and lost the job")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_whose_attempts_were_all_lost_ends_with_an_error() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let new = NewJob {
        project: "buoy".into(),
        command: vec!["sleep".into(), "1000".into()],
        tries: Some(2),
        ..NewJob::default()
    };
    let name = service.client.submit(&new, None).await.unwrap().job.name;
    for attempt in 1..=2 {
        let executes =
            |job: &Job| job.line.state == JobState::Executing && job.attempts.len() == attempt;
        service.job_when(&name, "executing", executes).await;
        runner.kill();
        runner.work();
    }
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Error));
    assert!(job.message.unwrap().starts_with("every attempt was lost"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_assignment_whose_answer_is_lost_comes_again() {
    let service = Service::start().await;
    service.furnish().await;
    let cutter = Cutter::to(service.address()).await;
    let _runner = Runner::working_through(&service, &cutter.url, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    cutter.swallow_answer_with("\"assignments\":[{");
    let name = service.submit("", "true").await;
    let job = service.done(&name).await;
    assert!(
        cutter.swallowed(),
        "an answer with an assignment was swallowed"
    );
    assert_eq!(job.line.result, Some(Outcome::Success));
    let accepted = job.attempts.iter().filter(|one| one.accepted).count();
    assert_eq!(accepted, 1, "{:?}", job.attempts);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_report_whose_answer_is_lost_is_recognised_when_it_comes_again() {
    let service = Service::start().await;
    service.furnish().await;
    let cutter = Cutter::to(service.address()).await;
    let _runner = Runner::working_through(&service, &cutter.url, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    // Every report of a start or an end is answered with 204: lose the first two.
    cutter.swallow_answer_with("204 No Content");
    cutter.swallow_answer_with("204 No Content");
    let job = service.done(&service.submit("", "echo once").await).await;
    assert_eq!(
        (job.line.result, job.attempts.len()),
        (Some(Outcome::Success), 1)
    );
    until("both answers were swallowed", || async {
        cutter.swallowed().then_some(())
    })
    .await;
    let next = service.done(&service.submit("", "true").await).await;
    assert_eq!(
        next.line.result,
        Some(Outcome::Success),
        "the slot is free again"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_unacknowledged_assignment_is_revoked_and_counts_as_no_loss() {
    let service = Service::start().await;
    service.furnish().await;
    let cutter = Cutter::to(service.address()).await;
    let _away = Runner::working_through(&service, &cutter.url, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    cutter.sever(true);
    let name = service.submit("", "true").await;
    service
        .job_when(&name, "assigned", |job| job.attempts.len() == 1)
        .await;
    let _second = Runner::working(&service, "staithe", "fell-02", 1).await;
    service.runner_when("fell-02", RunnerState::Available).await;
    service.clock.advance(Duration::from_secs(4));
    let job = service.done(&name).await;
    assert_eq!(job.line.runner.as_deref(), Some("fell-02"));
    let message = job.attempts[0].message.as_deref().unwrap();
    assert_eq!(message, "fell-01 did not acknowledge the job within 3.0 s");
}

/// What a test of a service that dies needs: an installation served by a process of its own.
pub struct Installation {
    database: crate::support::Database,
    data: tempfile::TempDir,
    port: u16,
    pub client: Client,
}

impl Installation {
    pub async fn furnished() -> (Installation, ServiceProcess) {
        let database = crate::support::Database::fresh().await;
        let data = tempfile::tempdir().unwrap();
        let port = free_port();
        let process = ServiceProcess::start(&database.url, data.path(), port).await;
        let client = Client::new(&process.url, &token_in(data.path()), &Route::default()).unwrap();
        furnish(&client).await;
        (
            Installation {
                database,
                data,
                port,
                client,
            },
            process,
        )
    }

    async fn start(&self) -> ServiceProcess {
        ServiceProcess::start(&self.database.url, self.data.path(), self.port).await
    }
}

pub async fn furnish(client: &Client) {
    client
        .add_team(&NewTeam {
            name: "firmware".into(),
            parent: None,
        })
        .await
        .unwrap();
    client
        .add_project(&NewProject {
            name: "buoy".into(),
            team: "firmware".into(),
        })
        .await
        .unwrap();
    let pool = NewPool {
        name: "staithe".into(),
        description: String::new(),
        labels: vec![],
        open: Some(true),
        owner: None,
        ..NewPool::default()
    };
    client.add_pool(&pool).await.unwrap();
}

/// A runner's process. It ends with the test, also where that fails.
pub struct RunnerProcess(std::process::Child);

impl std::ops::Deref for RunnerProcess {
    type Target = std::process::Child;
    fn deref(&self) -> &std::process::Child {
        &self.0
    }
}

impl std::ops::DerefMut for RunnerProcess {
    fn deref_mut(&mut self) -> &mut std::process::Child {
        &mut self.0
    }
}

impl Drop for RunnerProcess {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

pub async fn join(client: &Client, url: &str, home: &Path) -> RunnerProcess {
    let ticket = client
        .add_ticket("staithe", &Default::default())
        .await
        .unwrap()
        .secret;
    let joined = Runner::join(
        home,
        &["--server", url, "--ticket", &ticket, "--name", "fell-01"],
    );
    assert!(
        joined.status.success(),
        "{}",
        String::from_utf8_lossy(&joined.stderr)
    );
    let process = Command::new(crate::support::program("pennine-runner"))
        .args(["work", "--dir"])
        .arg(home)
        .env("PENNINE_RUNNER_EXPOSE", exposed(home))
        .env("PENNINE_RUNNER_LOG", "warn")
        .spawn();
    RunnerProcess(process.expect("the runner starts"))
}

pub async fn submit(client: &Client, script: &str) -> String {
    let command = ["sh", "-c", script].map(str::to_owned).to_vec();
    let new = NewJob {
        project: "buoy".into(),
        command,
        ..NewJob::default()
    };
    client.submit(&new, None).await.unwrap().job.name
}

pub async fn when(client: &Client, name: &str, wanted: impl Fn(&Job) -> bool) -> Job {
    until(&format!("{name} is as wanted"), || async {
        client.job(name).await.ok().filter(|job| wanted(job))
    })
    .await
}

pub async fn whole_log(client: &Client, name: &str) -> String {
    let mut log = Vec::new();
    loop {
        let part = client
            .log(name, None, log.len() as u64, Duration::from_secs(5).into())
            .await
            .unwrap();
        log.extend_from_slice(&part.bytes);
        if part.complete {
            return String::from_utf8(log).unwrap();
        }
    }
}

/// A job that counts until a file appears, so that what happens meanwhile happens in its middle.
fn counting(go: &Path) -> String {
    format!(
        "n=0; while ! [ -e {} ]; do n=$((n+1)); echo line $n; sleep 0.02; done; echo end at $n",
        go.display()
    )
}

/// Whether a log of [`counting`] has every line once, in order.
fn check_counted(log: &str) {
    let lines: Vec<&str> = log
        .lines()
        .filter(|line| !line.starts_with("pennine: "))
        .collect();
    let (last, counted) = lines.split_last().expect("it counted");
    for (i, line) in counted.iter().enumerate() {
        assert_eq!(*line, format!("line {}", i + 1));
    }
    assert_eq!(*last, format!("end at {}", counted.len()));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_service_killed_in_the_middle_of_a_job_loses_nothing() {
    let (installation, mut process) = Installation::furnished().await;
    let client = &installation.client;
    let home = tempfile::tempdir().unwrap();
    let mut runner = join(client, &process.url, home.path()).await;
    let go = shared(home.path()).join("go");
    let name = submit(client, &counting(&go)).await;
    when(client, &name, |job| {
        job.attempts
            .first()
            .is_some_and(|one| one.log_bytes.0 > 1000)
    })
    .await;
    process.kill();
    // The job goes on meanwhile, and ends while the service is down.
    let spooled = std::fs::read_dir(home.path().join("spool"))
        .unwrap()
        .flatten()
        .map(|file| file.path())
        .find(|path| path.extension().is_none())
        .unwrap();
    let before = std::fs::metadata(&spooled).unwrap().len();
    until("the job goes on", || async {
        (std::fs::metadata(&spooled).ok()?.len() > before + 500).then_some(())
    })
    .await;
    std::fs::write(&go, "").unwrap();
    let _process = installation.start().await;
    let job = when(client, &name, |job| job.line.result.is_some()).await;
    assert_eq!(
        (job.line.result, job.attempts.len()),
        (Some(Outcome::Success), 1)
    );
    check_counted(&whole_log(client, &name).await);
    runner.kill().unwrap();
    runner.wait().unwrap();
}

/// A cluster of its own, for a test that restarts it.
struct Cluster(tempfile::TempDir);

impl Cluster {
    fn run(&self, verb: &str) {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/cluster");
        let output = Command::new(script)
            .arg(verb)
            .arg(self.0.path())
            .arg("fsync=off")
            .output()
            .expect("it runs");
        assert!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
    }

    fn start() -> Cluster {
        let folder = tempfile::Builder::new()
            .prefix("pennine-cluster")
            .tempdir()
            .unwrap();
        use std::os::unix::fs::PermissionsExt;
        // The server's own user must be able to walk in.
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        let cluster = Cluster(folder);
        cluster.run("up");
        cluster
    }

    fn url(&self) -> String {
        std::fs::read_to_string(self.0.path().join("url"))
            .unwrap()
            .trim()
            .to_owned()
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/cluster");
        let _ = Command::new(script).arg("down").arg(self.0.path()).status();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn postgresql_restarted_in_the_middle_of_a_job_loses_nothing() {
    let cluster = Cluster::start();
    let data = tempfile::tempdir().unwrap();
    let process = ServiceProcess::start(&cluster.url(), data.path(), free_port()).await;
    let client = Client::new(&process.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    let home = tempfile::tempdir().unwrap();
    let mut runner = join(&client, &process.url, home.path()).await;
    let go = shared(home.path()).join("go");
    let name = submit(&client, &counting(&go)).await;
    when(&client, &name, |job| {
        job.attempts
            .first()
            .is_some_and(|one| one.log_bytes.0 > 500)
    })
    .await;
    cluster.run("down");
    let away = client.status().await.unwrap_err();
    assert_eq!(
        away.problem()
            .map(|problem| (problem.status, problem.word())),
        Some((503, "database-away"))
    );
    let before = cluster.url();
    cluster.run("up");
    assert_eq!(
        cluster.url(),
        before,
        "the cluster restarts at the same address"
    );
    std::fs::write(&go, "").unwrap();
    let job = when(&client, &name, |job| job.line.result.is_some()).await;
    assert_eq!(
        (job.line.result, job.attempts.len()),
        (Some(Outcome::Success), 1)
    );
    check_counted(&whole_log(&client, &name).await);
    let next = submit(&client, "echo well").await;
    assert_eq!(
        when(&client, &next, |job| job.line.result.is_some())
            .await
            .line
            .result,
        Some(Outcome::Success)
    );
    runner.kill().unwrap();
    runner.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_of_50_mb_over_a_connection_that_is_cut_ten_times_arrives_whole() {
    let service = Service::start().await;
    service.furnish().await;
    let cutter = Cutter::to(service.address()).await;
    let runner = Runner::working_through(&service, &cutter.url, "staithe", "fell-01", 1).await;
    let made = runner.shared("made");
    // The job writes the same bytes to its output and to a file, which the test reads.
    let script = format!(
        "i=0; while [ $i -lt 50 ]; do head -c 786432 /dev/urandom | base64 -w 90; i=$((i+1)); done | tee {}",
        made.display()
    );
    let name = service.submit("", &script).await;
    let mut seen = cutter.carried();
    for _ in 0..10 {
        seen = until("another 3 MB were carried", || async {
            let now = cutter.carried();
            (now > seen + 3_000_000).then_some(now)
        })
        .await;
        cutter.cut();
    }
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{:?}", job.message);
    let log = service.log(&name).await;
    // The runner's own lines stand before and after what the command wrote.
    let head = log
        .split_inclusive(|byte| *byte == b'\n')
        .take_while(|line| line.starts_with(b"pennine: "));
    let head: usize = head.map(<[u8]>::len).sum();
    let tail = log.len()
        - log[..log.len() - 1]
            .iter()
            .rposition(|byte| *byte == b'\n')
            .unwrap()
        - 1;
    let made = std::fs::read(made).unwrap();
    assert!(made.len() > 50 << 20, "{}", made.len());
    let sum = |bytes: &[u8]| Sha256::digest(bytes);
    assert_eq!(log.len() - head - tail, made.len());
    assert_eq!(sum(&log[head..log.len() - tail]), sum(&made));
    let database = service.database.connect().await;
    until("the log is sealed whole", || async {
        let row = database
            .query_one("select sealed = length and complete from attempt_log", &[])
            .await
            .ok()?;
        row.get::<_, bool>(0).then_some(())
    })
    .await;
    let objects = database
        .query_one("select count(*), max(length) from log_object", &[])
        .await
        .unwrap();
    assert!(objects.get::<_, i64>(0) > 50 && objects.get::<_, i64>(1) == 1 << 20);
    assert_eq!(
        Sha256::digest(service.log(&name).await),
        Sha256::digest(&log),
        "the sealed log reads the same"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_unreachable_database_is_reported_and_the_service_recovers() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    service.database.take_away().await;
    let refused = until("the service notices", || async {
        let error = service.client.status().await.err()?;
        Some(error.problem()?.clone())
    })
    .await;
    assert_eq!((refused.status, refused.word()), (503, "database-away"));
    assert!(refused.remedy.is_some());
    let ready = reqwest::get(format!("{}/readyz", service.url))
        .await
        .unwrap();
    assert_eq!(ready.status(), 503);
    assert_eq!(
        reqwest::get(format!("{}/healthz", service.url))
            .await
            .unwrap()
            .status(),
        200
    );
    service.database.give_back().await;
    until("the service is back", || async {
        service.client.status().await.ok()
    })
    .await;
    let name = service.submit("", "true").await;
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_that_starts_without_its_database_waits_for_it() {
    let database = crate::support::Database::fresh().await;
    database.take_away().await;
    let data = tempfile::tempdir().unwrap();
    let settings = config(&database.url, data.path(), ([127, 0, 0, 1], 0).into());
    let clock = pennined::clock::Clock::starting_at(wall_clock());
    let replica = crate::support::Replica::start(settings, clock).await;
    assert!(!data.path().join("admin.token").exists());
    database.give_back().await;
    until("it serves", || async {
        let answer = reqwest::get(format!("{}/readyz", replica.url)).await.ok()?;
        answer.status().is_success().then_some(())
    })
    .await;
    replica.stop().await;
}
