//! What may go wrong on a runner's machine: jobs that misbehave, a full disk, a runner that is killed, a service that is
//! away. The record says what happened, nothing acknowledged is lost, and the machine is fit for the next job.

use crate::support::{Runner, Service, shared, until};
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::{Job, NewJob, NewSeat, RunnerChange};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

/// A name that nothing else on this machine has, to find a job's processes by.
pub fn mark() -> String {
    format!("mark-{}", uuid::Uuid::new_v4().simple())
}

/// Whether a process of this machine has the mark on its command line.
pub fn lives(mark: &str) -> bool {
    let entries = std::fs::read_dir("/proc").expect("/proc").flatten();
    entries
        .filter_map(|entry| std::fs::read(entry.path().join("cmdline")).ok())
        .any(|line| {
            line.windows(mark.len())
                .any(|window| window == mark.as_bytes())
        })
}

async fn executing(service: &Service, name: &str) -> Job {
    service
        .job_when(name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await
}

/// The log of one attempt, by its number.
async fn log_of(service: &Service, name: &str, attempt: u32) -> String {
    let mut bytes = Vec::new();
    loop {
        let from = bytes.len() as u64;
        let part = service
            .client
            .log(name, Some(attempt), from, Duration::ZERO.into())
            .await
            .unwrap();
        bytes.extend_from_slice(&part.bytes);
        if part.bytes.is_empty() {
            return String::from_utf8(bytes).unwrap();
        }
    }
}

/// Whether the runner's folder holds nothing of any attempt.
fn swept(home: &Path) -> bool {
    let inside = |folder: &Path| -> Vec<PathBuf> {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        entries.map(|entry| entry.path()).collect()
    };
    // Folders for the next jobs are there already, and empty.
    let folders = inside(&home.join("work"));
    // The temporary files hold the way to what jobs see of the test, which is in a temporary folder.
    let is_empty = |folder: &PathBuf| {
        let mut parts = ["workspace", "home"].iter();
        parts.all(|part| inside(&folder.join(part)).is_empty())
    };
    inside(&home.join("spool")).is_empty() && folders.iter().all(is_empty)
}

async fn until_swept(home: &Path) {
    until(
        "nothing is left of the job in the runner's folder",
        || async { swept(home).then_some(()) },
    )
    .await;
}

async fn one_runner() -> (Service, Runner) {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    (service, runner)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn log_and_result_outlive_the_runner_and_an_hour_without_the_service() {
    let (mut service, mut runner) = one_runner().await;
    let go = runner.shared("go");
    let script =
        format!("echo begun; while ! [ -e {go:?} ]; do sleep 0.02; done; echo late words; exit 7");
    let name = service.submit("", &script).await;
    executing(&service, &name).await;
    service.goes_away().await;
    std::fs::write(&go, "").unwrap();
    // The end is written down; then the runner is killed before it could report it.
    let spool = runner.home.path().join("spool");
    until("the end is written down", || async {
        std::fs::read_dir(&spool)
            .ok()?
            .flatten()
            .filter(|file| file.path().extension().is_some_and(|end| end == "journal"))
            .find_map(|file| std::fs::read_to_string(file.path()).ok())
            .filter(|journal| journal.contains("\"exit_code\":7"))
    })
    .await;
    runner.kill();
    runner.work();
    service.clock.advance(Duration::from_secs(3600));
    service.comes_back().await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Failure));
    assert_eq!(job.exit_code, Some(7));
    assert_eq!(job.attempts.len(), 1, "it was not retried");
    let log = log_of(&service, &name, 1).await;
    assert!(
        log.contains("\nbegun\nlate words\npennine: exit code 7 after "),
        "{log}"
    );
    until_swept(runner.home.path()).await;
    let next = service.submit("", "true").await;
    assert_eq!(
        service.done(&next).await.line.result,
        Some(Outcome::Success)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_stops_without_waiting_for_an_unreachable_service() {
    let (mut service, mut runner) = one_runner().await;
    let go = runner.shared("go");
    let script = format!("while ! [ -e {go:?} ]; do sleep 0.02; done; echo done");
    let name = service.submit("", &script).await;
    executing(&service, &name).await;
    service.goes_away().await;
    runner.signal("TERM");
    std::fs::write(&go, "").unwrap();
    assert!(runner.ended().await.success(), "it ends by itself");
    service.comes_back().await;
    runner.work();
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert!(log_of(&service, &name, 1).await.contains("\ndone\n"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_killed_at_any_moment_delivers_its_log_and_the_job_is_retried() {
    let (service, mut runner) = one_runner().await;
    let home = shared(runner.home.path());
    // The moment at which the runner is killed in each of the first attempts is one that the job makes visible.
    let script = format!(
        "touch {home:?}/begun-$PENNINE_ATTEMPT_NUMBER; n=$(ls {home:?} | grep -c ^begun-); case $n in \
         1) touch {home:?}/at-1; sleep 1000;; \
         2) echo words of 2; sleep 0.3; touch {home:?}/at-2; sleep 1000;; \
         3) head -c 3000000 /dev/zero | tr '\\0' x; echo; echo words of 3; touch {home:?}/at-3; sleep 1000;; \
         4) setsid sleep 1000 & touch {home:?}/at-4; sleep 1000;; \
         *) echo words of the last;; esac"
    );
    let new = NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", &script].map(str::to_owned).to_vec(),
        tries: Some(9),
        ..NewJob::default()
    };
    let name = service.client.submit(&new, None).await.unwrap().job.name;
    for time in 1..=4 {
        until(
            &format!("it is far enough for the {time}. time"),
            || async { home.join(format!("at-{time}")).exists().then_some(()) },
        )
        .await;
        runner.kill();
        runner.work();
    }
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(job.attempts.iter().filter(|one| one.accepted).count(), 1);
    // A runner that is killed before its start was written down leaves an unacknowledged assignment, or a session that
    // does not name it: in each case the record says so.
    for one in job.attempts.iter().filter(|one| !one.accepted) {
        let message = one.message.as_deref().unwrap();
        assert!(
            message == "fell-01 was restarted and lost the job"
                || message.contains("did not acknowledge"),
            "{message}"
        );
    }
    let lost = "\npennine: the runner was stopped while this ran";
    // Not each that was assigned was begun: a runner that is not back yet does not take it.
    let mut logs = Vec::new();
    for one in &job.attempts {
        logs.push(log_of(&service, &name, one.number).await);
    }
    for number in [2, 3] {
        let words = format!("\nwords of {number}\n");
        let log = logs.iter().find(|log| log.contains(&words));
        assert!(
            log.is_some_and(|log| log.contains(lost)),
            "{}",
            logs.concat().replace("xxxxxxxxxx", "")
        );
    }
    until_swept(runner.home.path()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn background_processes_and_fork_bombs_end_with_their_job() {
    let (service, runner) = one_runner().await;
    let mark = mark();
    // A daemon, and a process that is always another: each forks the next and ends. (The mark is an argument.)
    let script = format!(
        "setsid sh -c 'sleep 1000; : {mark}' >/dev/null 2>&1 & \
         echo 'sh \"$0\" {mark} & ' > chain; setsid sh chain {mark} >/dev/null 2>&1 & \
         sleep 0.2; echo left"
    );
    let name = service.submit("", &script).await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    until("nothing of the job lives", || async {
        (!lives(&mark)).then_some(())
    })
    .await;
    until_swept(runner.home.path()).await;
    // The same, ended by its time limit with a crowd of processes.
    let crowd = format!(
        "for i in $(seq 200); do setsid sh -c 'sleep 1000; : {mark}' & done; echo crowded; sleep 1000"
    );
    let new = NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", &crowd].map(str::to_owned).to_vec(),
        time_limit_us: Some(Duration::from_secs(3).into()),
        ..NewJob::default()
    };
    let name = service.client.submit(&new, None).await.unwrap().job.name;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Timeout));
    until("nothing of the crowd lives", || async {
        (!lives(&mark)).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_line_of_two_gigabytes_is_cut_at_the_cap_and_reading_it_stays_cheap() {
    let service = Service::with(|config| config.limits.job_log_bytes = 4 << 20).await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service
        .submit("", "head -c 2147483648 /dev/zero; echo; echo end")
        .await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert!(job.attempts[0].log_capped);
    let log = service.log(&name).await;
    let message = String::from_utf8_lossy(&log);
    assert!(log.len() < (4 << 20) + 4096);
    assert!(message.contains("pennine: the log is longer than 4194304 bytes"));
    assert!(message.contains("\npennine: exit code 0 after "));
    let http = reqwest::Client::new();
    let lines = http
        .get(format!(
            "{}/api/v1/jobs/{name}/log/lines?count=50",
            service.url
        ))
        .bearer_auth(&service.token)
        .send()
        .await
        .unwrap();
    assert!(lines.status().is_success(), "{:?}", lines.text().await);
    let length = lines.bytes().await.unwrap().len();
    assert!(length < 1 << 20, "a page of lines has {length} bytes");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn binary_output_is_kept_as_it_is() {
    let (service, _runner) = one_runner().await;
    let all: String = (0..256).map(|byte| format!("\\{byte:03o}")).collect();
    let name = service.submit("", &format!("printf '{all}'")).await;
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
    let log = service.log(&name).await;
    let bytes: Vec<u8> = (0..=255).collect();
    assert!(
        log.windows(256).any(|window| window == bytes),
        "all bytes are there as they were printed"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_closes_its_output_runs_on_to_its_own_end() {
    let (service, _runner) = one_runner().await;
    let name = service
        .submit("", "echo first; exec >&- 2>&-; sleep 0.5; exit 3")
        .await;
    let job = service.done(&name).await;
    assert_eq!(
        (job.line.result, job.exit_code),
        (Some(Outcome::Failure), Some(3))
    );
    assert!(log_of(&service, &name, 1).await.contains("\nfirst\n"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_workspace_that_cannot_be_removed_is_reported_and_the_next_job_runs() {
    let (service, mut runner) = one_runner().await;
    let name = service
        .submit(
            "",
            "mkdir -p a/b/c; touch a/b/c/d; chmod 500 a/b/c; chmod 000 a/b; chmod 000 a",
        )
        .await;
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
    until_swept(runner.home.path()).await;
    // Only root can make a file that root cannot remove, and not on every file system.
    let name = service
        .submit("", "touch kept; chattr +i kept || echo not here")
        .await;
    service.done(&name).await;
    if !log_of(&service, &name, 1).await.contains("\nnot here\n") {
        let next = service.submit("", "echo well").await;
        assert_eq!(
            service.done(&next).await.line.result,
            Some(Outcome::Success)
        );
        assert!(!swept(runner.home.path()));
        let loosened = Command::new("chattr")
            .args(["-R", "-i"])
            .arg(runner.home.path().join("work"))
            .status();
        assert!(loosened.unwrap().success());
        runner.stop();
        runner.work();
        until_swept(runner.home.path()).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_full_disk_is_an_error_that_says_so_and_the_next_job_runs() {
    let (service, mut runner) = one_runner().await;
    runner.stop();
    service.runner_when("fell-01", RunnerState::Offline).await;
    // A small disk of its own, in a mount namespace that ends with the runner.
    let mount = "set -e; cp \"$0/runner.json\" /tmp/id.$$; mount -t tmpfs -o size=2m tmpfs \"$0\"; \
                 cp /tmp/id.$$ \"$0/runner.json\"; rm /tmp/id.$$; exec \"$1\" work";
    let root = nix_is_root();
    let wrapper: &[&str] = if root {
        &["unshare", "--mount"]
    } else {
        &["unshare", "--map-root-user", "--mount"]
    };
    let able = Command::new(wrapper[0])
        .args(&wrapper[1..])
        .arg("true")
        .status();
    if !able.is_ok_and(|status| status.success()) {
        eprintln!(
            "SKIPPED: this user may not make a mount namespace here, so no small disk can be had"
        );
        return;
    }
    runner.work_within(wrapper, mount);
    service.runner_when("fell-01", RunnerState::Available).await;
    let name = service
        .submit("", "head -c 2500000 /dev/zero > filler || echo the job itself failed; head -c 3000000 /dev/zero")
        .await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Error));
    let message = job.message.unwrap();
    assert!(
        message.contains("the log cannot be written") && message.contains("No space left"),
        "{message}"
    );
    let next = service.submit("", "echo well").await;
    let next = service.done(&next).await;
    assert_eq!(next.line.result, Some(Outcome::Success), "{next:?}");
}

pub fn nix_is_root() -> bool {
    let id = Command::new("id").arg("-u").output().unwrap();
    id.stdout.trim_ascii() == b"0"
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_clock_an_hour_off_changes_no_length_of_time() {
    let (mut service, mut runner) = one_runner().await;
    // The service is an hour ahead of the machine from now on, as seen from there.
    service.goes_away().await;
    service.clock.advance(Duration::from_secs(3600));
    service.comes_back().await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let name = service.submit("", "sleep 0.4; echo well").await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    let one = &job.attempts[0];
    let (started, finished) = (one.started_at.unwrap(), one.finished_at.unwrap());
    let ran = finished.since(started);
    assert!(
        ran >= Duration::from_millis(400) && ran < Duration::from_secs(60),
        "{ran:?}"
    );
    // A restart in which a job is lost, too.
    let go = runner.shared("go");
    let name = service
        .submit(
            "",
            &format!("[ -e {go:?} ] || {{ touch {go:?}; sleep 1000; }}"),
        )
        .await;
    until("the job runs", || async { go.exists().then_some(()) }).await;
    executing(&service, &name).await;
    runner.kill();
    runner.work();
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_holds_seats_ends_before_its_lease_when_its_runner_is_cut_off() {
    let (mut service, runner) = one_runner().await;
    let seat = NewSeat {
        name: "licence".into(),
        count: 1,
        description: String::new(),
    };
    service.client.add_seat(&seat).await.unwrap();
    service
        .client
        .change_runner(
            "fell-01",
            &RunnerChange {
                slots: Some(Some(2)),
                ..RunnerChange::default()
            },
        )
        .await
        .unwrap();
    let (held, free) = (mark(), mark());
    let home = runner.shared("again");
    let script =
        |mark: &str| format!("[ -e {home:?} ] || {{ sh -c 'sleep 1000; : {mark}'; }}; echo well");
    let new = NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", &script(&held)].map(str::to_owned).to_vec(),
        seats: [("licence".to_owned(), 1)].into(),
        ..NewJob::default()
    };
    let with_seat = service.client.submit(&new, None).await.unwrap().job.name;
    let without = service.submit("", &script(&free)).await;
    executing(&service, &with_seat).await;
    executing(&service, &without).await;
    until("both run", || async {
        (lives(&held) && lives(&free)).then_some(())
    })
    .await;
    service.goes_away().await;
    // The lease lasts 30 s after the last poll that was answered; it is over before that.
    until("the one with a seat has ended", || async {
        (!lives(&held)).then_some(())
    })
    .await;
    assert!(lives(&free), "the other goes on");
    std::fs::write(&home, "").unwrap();
    service.comes_back().await;
    let job = service.done(&with_seat).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(
        job.attempts[0].message.as_deref(),
        Some("fell-01 was disconnected and ended the job, because it held seats")
    );
    assert!(
        log_of(&service, &with_seat, 1)
            .await
            .contains("and this job holds seats that others may get soon")
    );
    let job = service.client.job(&without).await.unwrap();
    assert_eq!(
        (job.line.state, job.attempts.len()),
        (JobState::Executing, 1)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn runners_of_one_host_share_its_limit() {
    let service = Service::start().await;
    service.furnish().await;
    service.add_pool("loft", &["loft"]).await;
    let host = tempfile::tempdir().unwrap();
    let mut runners = Vec::new();
    for (name, pool) in [("fell-01", "staithe"), ("loft-01", "loft")] {
        let ticket = service.ticket(pool).await;
        let share = [
            "--host-dir",
            host.path().to_str().unwrap(),
            "--host-jobs",
            "2",
        ];
        let mut arguments = vec![
            "--server",
            &service.url,
            "--ticket",
            &ticket,
            "--name",
            name,
            "--slots",
            "2",
        ];
        arguments.extend(share);
        runners.push(Runner::joined(&arguments));
    }
    for runner in &mut runners {
        runner.work();
    }
    service.runner_when("fell-01", RunnerState::Available).await;
    service.runner_when("loft-01", RunnerState::Available).await;
    let go = service.shared("go");
    let script = format!("while ! [ -e {go:?} ]; do sleep 0.05; done");
    let mut names = Vec::new();
    for requirement in ["loft", "not loft", "loft", "not loft"] {
        names.push(service.submit(requirement, &script).await);
    }
    let executing = async || {
        let mut count = 0;
        for name in &names {
            let job = service.client.job(name).await.unwrap();
            count += usize::from(job.line.state == JobState::Executing);
        }
        count
    };
    until("as many run as may", || async {
        (executing().await == 2).then_some(())
    })
    .await;
    // The others wait for a runner, not indefinitely on one that cannot begin them.
    until("the other two wait", || async {
        let mut waiting = 0;
        for name in &names {
            let job = service.client.job(name).await.unwrap();
            waiting += usize::from(job.line.reason == Some(Reason::AllBusy));
        }
        (waiting == 2 && executing().await == 2).then_some(())
    })
    .await;
    std::fs::write(&go, "").unwrap();
    for name in &names {
        let job = service.done(name).await;
        assert_eq!(job.line.result, Some(Outcome::Success));
        for lost in job.attempts.iter().filter(|one| !one.accepted) {
            let message = lost.message.as_deref().unwrap();
            assert!(
                message.contains("its host is at its limit of jobs"),
                "{message}"
            );
        }
    }
}
