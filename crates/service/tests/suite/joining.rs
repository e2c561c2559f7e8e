//! How a machine comes in: the script and the program that the service hands out, what is checked before, what is asked.

use crate::support::{Runner, Service, program, until};
use pennine_client::{Route, RunnerClient};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::runner_protocol::{Enrol, Program};
use pennine_wire::{NewPool, PoolChange};
use std::path::Path;
use std::process::{Command, Output};
use std::time::Duration;

fn output_text(output: &Output) -> String {
    [&output.stdout, &output.stderr]
        .map(|bytes| String::from_utf8_lossy(bytes).into_owned())
        .concat()
}

/// A folder with the runner's program as the service hands it out.
pub fn programs() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::hard_link(
        program("pennine-runner"),
        folder.path().join("pennine-runner"),
    )
    .or_else(|_| {
        std::fs::copy(
            program("pennine-runner"),
            folder.path().join("pennine-runner"),
        )
        .map(drop)
    })
    .unwrap();
    folder
}

pub fn is_root() -> bool {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata("/proc/self").is_ok_and(|own| own.uid() == 0)
}

fn run_script(script: &[u8], home: &Path, arguments: &[&str]) -> Output {
    let file = home.join("join.sh");
    std::fs::write(&file, script).unwrap();
    Command::new("sh")
        .arg(&file)
        .args(arguments)
        // The tests add no user to the host, where they are root.
        .args(is_root().then_some("--user=root"))
        .env_clear()
        .env("PATH", std::env::var("PATH").unwrap())
        .env("HOME", home)
        .output()
        .unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bare_machine_gets_the_program_from_the_service_checks_it_and_joins() {
    let folder = programs();
    let held = folder.path().to_owned();
    let service = Service::with(|config| config.programs_dir = held).await;
    service.furnish().await;
    let http = reqwest::Client::new();
    let get = |path: &str| http.get(format!("{}{path}", service.url)).send();
    let listed: Vec<Program> = get("/runner/v1/programs")
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(listed.len(), 1);
    let answer = get(&format!("/runner/v1/programs/{}", listed[0].platform))
        .await
        .unwrap();
    let digest = answer
        .headers()
        .get("repr-digest")
        .unwrap()
        .to_str()
        .unwrap()
        .to_owned();
    assert!(
        digest.starts_with("sha-256=:") && digest.ends_with("=:"),
        "{digest}"
    );
    let bytes = answer.bytes().await.unwrap();
    use sha2::Digest;
    assert_eq!(hex::encode(sha2::Sha256::digest(&bytes)), listed[0].sha256);

    let script = get("/join.sh").await.unwrap().bytes().await.unwrap();
    let made = service
        .client
        .add_ticket("staithe", &Default::default())
        .await
        .unwrap();
    assert_eq!(
        made.install,
        format!(
            "curl -fsSL {}/join.sh | sh -s -- --ticket {}",
            service.url, made.secret
        )
    );
    let home = tempfile::tempdir().unwrap();
    let into = format!("--into={}", home.path().join("bin").display());
    let dir = format!("--dir={}", home.path().join("runner").display());
    let joined = run_script(
        &script,
        home.path(),
        &[&into, &dir, "--ticket", &made.secret, "--name", "fell-01"],
    );
    assert!(joined.status.success(), "{}", output_text(&joined));
    assert!(
        output_text(&joined).contains("SHA-256 as expected")
            && output_text(&joined).contains("Joined"),
        "{}",
        output_text(&joined)
    );
    let runner = service.client.runner("fell-01").await.unwrap();
    assert_eq!(runner.state, RunnerState::Offline);
    assert!(home.path().join("runner/runner.json").exists());

    // A program that is not what was promised is not installed, and half a script does nothing.
    let wrong = String::from_utf8(script.to_vec())
        .unwrap()
        .replace(&listed[0].sha256, &"0".repeat(64));
    let other = tempfile::tempdir().unwrap();
    let into = format!("--into={}", other.path().join("bin").display());
    let refused = run_script(wrong.as_bytes(), other.path(), &[&into, "--ticket", "x"]);
    assert!(
        !refused.status.success() && output_text(&refused).contains("it is not installed"),
        "{}",
        output_text(&refused)
    );
    assert!(!other.path().join("bin/pennine-runner").exists());
    let half = run_script(
        &script[..script.len() - 20],
        other.path(),
        &[&into, "--ticket", "x"],
    );
    assert!(
        !other.path().join("bin/pennine-runner").exists(),
        "{}",
        output_text(&half)
    );
    // For another platform the error lists the ones that exist.
    let none = get("/runner/v1/programs/linux-mips").await.unwrap();
    assert_eq!(none.status(), 404);
    assert!(none.text().await.unwrap().contains(&listed[0].platform));
}

/// Puts a program of a few lines of shell into a folder.
fn stub(folder: &Path, name: &str, text: &str) {
    use std::os::unix::fs::PermissionsExt;
    let path = folder.join(name);
    std::fs::write(&path, format!("#!/bin/sh\n{text}\n")).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_root_installs_runs_as_a_user_of_its_own() {
    let folder = programs();
    let held = folder.path().to_owned();
    let service = Service::with(|config| config.programs_dir = held).await;
    service.furnish().await;
    let script = reqwest::get(format!("{}/join.sh", service.url))
        .await
        .unwrap();
    let script = script.bytes().await.unwrap();
    let ticket = service.ticket("staithe").await;
    // Instead of the host's own: the test adds no user, and need not be root.
    let home = tempfile::tempdir().unwrap();
    let (bin, log) = (home.path().join("stubs"), home.path().join("log"));
    std::fs::create_dir(&bin).unwrap();
    let say = |rest: &str| format!("echo \"$(basename $0) $*\" >>{}; {rest}", log.display());
    let known = home.path().join("known");
    stub(
        &bin,
        "id",
        &format!(
            "case $* in -u) echo 0 ;; '-g '*) echo 70777 ;; *) [ -e {0} ] ;; esac",
            known.display()
        ),
    );
    stub(&bin, "useradd", &say(&format!("touch {}", known.display())));
    stub(&bin, "chown", &say("true"));
    stub(
        &bin,
        "setpriv",
        &say("while [ \"$1\" != env ]; do shift; done; exec \"$@\""),
    );
    let file = home.path().join("join.sh");
    std::fs::write(&file, &script).unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let joined = Command::new("sh")
        .arg(&file)
        .arg(format!("--into={}", home.path().join("bin").display()))
        .arg(format!("--dir={}", home.path().join("runner").display()))
        .args(["--ticket", &ticket, "--name", "fell-01"])
        .env_clear()
        .env("PATH", path)
        .env("HOME", home.path())
        .output()
        .unwrap();
    let text = output_text(&joined);
    assert!(joined.status.success(), "{text}");
    assert!(text.contains("Added the user pennine-runner."), "{text}");
    assert!(text.contains("Jobs here: isolation process"), "{text}");
    let log = std::fs::read_to_string(log).unwrap();
    assert!(log.contains("chown pennine-runner: "), "{log}");
    assert!(
        log.contains("setpriv --reuid=pennine-runner --regid=70777 --init-groups env HOME="),
        "{log}"
    );
    service.client.runner("fell-01").await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_that_lacks_what_the_pool_needs_is_refused_before_it_joins() {
    let service = Service::start().await;
    service.furnish().await;
    let new = NewPool {
        name: "loft".into(),
        description: "big machines".into(),
        labels: vec!["big".into()],
        needs: Some("cores >= 100000 and linux".into()),
        ..NewPool::default()
    };
    service.client.add_pool(&new).await.unwrap();
    let ticket = service.ticket("loft").await;
    let home = tempfile::tempdir().unwrap();
    let join = || {
        Runner::join(
            home.path(),
            &[
                "--server",
                &service.url,
                "--ticket",
                &ticket,
                "--name",
                "loft-01",
            ],
        )
    };
    let refused = join();
    assert_eq!(refused.status.code(), Some(3));
    assert!(
        output_text(&refused).contains("this one fails: cores >= 100000")
            && output_text(&refused).contains("still valid"),
        "{}",
        output_text(&refused)
    );
    assert!(!home.path().join("runner.json").exists());
    let wrong = PoolChange {
        needs: Some("cores >=".into()),
        ..PoolChange::default()
    };
    let error = service
        .client
        .change_pool("loft", &wrong)
        .await
        .unwrap_err();
    assert_eq!(error.problem().unwrap().field.as_deref(), Some("needs"));
    // A pool made like it needs the same; what is said of it counts before.
    let copy = NewPool {
        name: "attic".into(),
        like: Some("loft".into()),
        labels: vec!["high".into()],
        ..NewPool::default()
    };
    let copy = service.client.add_pool(&copy).await.unwrap();
    assert_eq!(
        (copy.needs.as_str(), copy.description.as_str()),
        ("linux and cores >= 100000", "big machines")
    );
    assert_eq!(copy.labels, ["high"]);
    let less = PoolChange {
        needs: Some("linux".into()),
        ..PoolChange::default()
    };
    service.client.change_pool("loft", &less).await.unwrap();
    let joined = join();
    assert!(joined.status.success(), "{}", output_text(&joined));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn missing_arguments_are_prompted_for_at_a_terminal_and_errors_elsewhere() {
    let service = Service::start().await;
    service.furnish().await;
    let home = tempfile::tempdir().unwrap();
    let alone = Runner::join(home.path(), &["--server", &service.url]);
    assert_eq!(alone.status.code(), Some(2));
    assert!(
        output_text(&alone).contains("the ticket is missing: give --ticket"),
        "{}",
        output_text(&alone)
    );
    // `script` gives it a terminal; its input comes through a pipe.
    let ticket = service.ticket("staithe").await;
    let typed = format!("{}\\n{ticket}\\nfell-07\\n3\\nanechoic\\n", service.url);
    let shell = format!(
        "(printf '{typed}'; sleep 20) | script -qec '{} join --dir {}' /dev/null",
        program("pennine-runner").display(),
        home.path().display()
    );
    let mut asked = Command::new("sh")
        .args(["-c", &shell])
        .spawn()
        .expect("sh runs");
    let runner = until("it has joined with what was typed", || async {
        service.client.runner("fell-07").await.ok()
    })
    .await;
    let _ = asked.kill();
    let _ = asked.wait();
    assert_eq!(
        (runner.slots, runner.labels),
        (3, vec!["anechoic".to_owned()])
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_credential_is_renewed_and_the_earlier_one_is_void_once_the_new_one_is_used() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let credential = || {
        let identity = std::fs::read_to_string(runner.home.path().join("runner.json")).unwrap();
        let identity: serde_json::Value = serde_json::from_str(&identity).unwrap();
        identity["credential"].as_str().unwrap().to_owned()
    };
    let first = credential();
    service.clock.advance(Duration::from_secs(31 * 86_400));
    until("another is written down", || async {
        (credential() != first).then_some(())
    })
    .await;
    let old = RunnerClient::new(&service.url, &first, &Route::default()).unwrap();
    until("the old one is refused", || async {
        let refused = old.me().await.err()?;
        (refused.problem()?.status == 401).then_some(())
    })
    .await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let second = credential();
    runner.stop();
    runner.work();
    service.runner_when("fell-01", RunnerState::Available).await;
    // A lost answer does not lock the runner out: offered twice, and neither was shown.
    let new = RunnerClient::new(&service.url, &second, &Route::default()).unwrap();
    let lost = new.renew().await.unwrap();
    let kept = new.renew().await.unwrap();
    new.me()
        .await
        .expect("the present one is worth something until another is shown");
    let gone = RunnerClient::new(&service.url, &lost.credential, &Route::default()).unwrap();
    assert_eq!(gone.me().await.unwrap_err().problem().unwrap().status, 401);
    new.show(&kept.credential);
    assert_eq!(new.me().await.unwrap().name, "fell-01");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_doctor_names_each_problem_with_a_remedy() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let well = runner.say(&["doctor"]);
    for what in [
        "folder",
        "disk",
        "name",
        "connection",
        "version",
        "clock",
        "runner",
    ] {
        assert!(
            output_text(&well).contains(&format!("  {what} ")),
            "{what} is missing in {}",
            output_text(&well)
        );
    }
    assert!(
        output_text(&well).contains("fell-01 (r-1) in the pool staithe is available"),
        "{}",
        output_text(&well)
    );
    let finding = |checked: &pennine_wire::Checkup, what: &str| {
        checked
            .findings
            .iter()
            .find(|one| one.check == what)
            .map(|one| (one.verdict.to_string(), one.message.clone()))
    };
    // From where, is written down within a second.
    let checked = until("the service knows from where it is connected", || async {
        let checked = service.client.check_runner("fell-01").await.ok()?;
        let (verdict, text) = finding(&checked, "connection")?;
        (verdict == "passed" && text.contains("connected from 127.0.0.1")).then_some(checked)
    })
    .await;
    assert!(
        checked.message.starts_with("fell-01 is available for "),
        "{}",
        checked.message
    );

    // Killed: the connection closes without a word, and the machine answers.
    runner.kill();
    until("the service has seen the connection close", || async {
        let checked = service.client.check_runner("fell-01").await.ok()?;
        finding(&checked, "connection")?
            .1
            .contains("closed its connection")
            .then_some(())
    })
    .await;
    service.clock.advance(Duration::from_secs(30));
    service.runner_when("fell-01", RunnerState::Offline).await;
    let checked = service.client.check_runner("fell-01").await.unwrap();
    let (verdict, text) = finding(&checked, "connection").unwrap();
    assert!(
        verdict == "failed" && text.contains("closed its connection"),
        "{text}"
    );
    let (verdict, text) = finding(&checked, "host").unwrap();
    assert!(verdict == "passed" && text.contains("answers"), "{text}");
    let down = runner.say(&["doctor"]);
    assert_eq!(down.status.code(), Some(1));
    assert!(
        output_text(&down).contains("failed    runner"),
        "{}",
        output_text(&down)
    );

    // Its service is somewhere else, or nowhere.
    for (server, what) in [
        (
            "http://127.0.0.1:1",
            "refuses: the machine is up, but nothing listens",
        ),
        ("http://no-such-host.invalid", "cannot be resolved"),
    ] {
        let lost = runner.say(&["doctor", "--server", server]);
        assert_eq!(lost.status.code(), Some(1));
        assert!(output_text(&lost).contains(what), "{}", output_text(&lost));
        assert!(
            output_text(&lost).contains("-> "),
            "it says what to do: {}",
            output_text(&lost)
        );
    }
    // Its clock is wrong.
    service.clock.advance(Duration::from_secs(7200));
    let late = runner.say(&["doctor"]);
    assert!(
        output_text(&late).contains("clock is 2 h")
            && output_text(&late).contains("behind the service's"),
        "{}",
        output_text(&late)
    );
    // What it finds on its machine, it tells the service.
    runner.work();
    let told = until("the service has heard of the clock", || async {
        let runner = service.client.runner("fell-01").await.ok()?;
        runner.findings.into_iter().find(|one| one.check == "clock")
    })
    .await;
    assert!(told.remedy.unwrap().contains("timedatectl"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_on_which_every_job_fails_raises_an_alert() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    for _ in 0..3 {
        let new = pennine_wire::NewJob {
            project: "buoy".into(),
            command: vec!["no-such-program".into()],
            ..Default::default()
        };
        let name = service.client.submit(&new, None).await.unwrap().job.name;
        service.done(&name).await;
    }
    let checked = service.client.check_runner("fell-01").await.unwrap();
    let jobs = checked
        .findings
        .iter()
        .find(|one| one.check == "jobs")
        .unwrap();
    assert_eq!(jobs.verdict.to_string(), "failed");
    assert!(
        jobs.message.starts_with("3 of the last 3 attempts"),
        "{}",
        jobs.message
    );
    // Seen as a strip of time, too.
    let time = service
        .client
        .runner_time(&["fell-01"], 1)
        .await
        .unwrap()
        .items;
    assert_eq!(time[0].lanes.len(), 1);
    assert_eq!(time[0].lanes[0].len(), 3);
    assert!(
        time[0]
            .states
            .iter()
            .any(|one| one.state == RunnerState::Available)
    );
}

#[test]
fn a_service_is_installed_into_an_image_found_and_removed() {
    let (root, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let run = |arguments: &[&str]| {
        Command::new(program("pennine-runner"))
            .arg("service")
            .args(arguments)
            .args(["--root", root.path().to_str().unwrap()])
            .env("PENNINE_RUNNER_DIR", home.path())
            .output()
            .unwrap()
    };
    let unnamed = run(&["install"]);
    assert_eq!(unnamed.status.code(), Some(2), "{}", output_text(&unnamed));
    let installed = run(&[
        "install",
        "--name",
        "pennine-runner-fell-01",
        "--drain-minutes",
        "30",
    ]);
    assert!(installed.status.success(), "{}", output_text(&installed));
    let units = root.path().join("etc/systemd/system");
    let text = std::fs::read_to_string(units.join("pennine-runner-fell-01.service")).unwrap();
    assert!(
        text.contains("TimeoutStopSec=30min") && text.contains("Restart=on-failure"),
        "{text}"
    );
    assert!(
        units
            .join("multi-user.target.wants/pennine-runner-fell-01.service")
            .is_symlink()
    );
    let status = run(&["status"]);
    assert!(
        output_text(&status).contains("pennine-runner-fell-01"),
        "{}",
        output_text(&status)
    );
    let removed = run(&["remove"]);
    assert!(removed.status.success(), "{}", output_text(&removed));
    assert!(!units.join("pennine-runner-fell-01.service").exists());
    assert_eq!(run(&["status"]).status.code(), Some(1));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_invalid_enrolment_is_refused() {
    let service = Service::start().await;
    service.furnish().await;
    let client = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let enrol = Enrol {
        protocol: 1,
        ticket: service.ticket("staithe").await,
        name: "fell 01".into(),
        slots: 1,
        labels: Vec::new(),
        facts: Default::default(),
        version: "0".into(),
    };
    let error = client.enrol(&enrol).await.unwrap_err();
    assert_eq!(error.problem().unwrap().field.as_deref(), Some("name"));
}
