//! The command line against a real service: what it prints and how it exits.

use crate::support::{Runner, Service, program};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::PoolChange;
use std::process::{Command, Output};

pub async fn pennine(service: &Service, arguments: &[&str]) -> Output {
    let mut command = Command::new(program("pennine"));
    command
        .args(arguments)
        .env_clear()
        .env("PENNINE_URL", &service.url)
        .env("PENNINE_TOKEN", &service.token);
    tokio::task::spawn_blocking(move || command.output().expect("pennine runs"))
        .await
        .unwrap()
}

pub async fn prints(service: &Service, arguments: &[&str]) -> String {
    let output = pennine(service, arguments).await;
    assert!(
        output.status.success(),
        "{arguments:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    let text = String::from_utf8(output.stdout).unwrap();
    // Tables fit 100 columns; sentences and commands are wrapped by the terminal.
    if arguments.contains(&"list") {
        assert!(
            text.lines().all(|line| line.chars().count() <= 100),
            "{arguments:?}:\n{text}"
        );
    }
    text
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tour_of_the_readme_reads_well() {
    let service = Service::start().await;
    assert!(
        prints(&service, &["status"])
            .await
            .starts_with("Nothing waits. No pools yet")
    );
    assert_eq!(
        prints(&service, &["team", "add", "firmware"]).await,
        "Added the team firmware.\n"
    );
    prints(&service, &["project", "add", "buoy", "--team", "firmware"]).await;
    let projects = prints(&service, &["project", "list"]).await;
    assert!(projects.contains("firmware/buoy  1"), "{projects}");
    prints(
        &service,
        &[
            "pool",
            "add",
            "staithe",
            "--label",
            "bench",
            "--description",
            "standing machines",
        ],
    )
    .await;
    assert!(
        prints(&service, &["ticket", "add", "--pool", "staithe"])
            .await
            .contains("pennine-runner join --server")
    );
    let json = prints(&service, &["ticket", "add", "--pool", "staithe", "--json"]).await;
    let made: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert!(made["secret"].as_str().unwrap().starts_with("pen-ticket-"));
    let _runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let pools = prints(&service, &["pool", "list"]).await;
    assert!(
        pools.contains("staithe") && pools.contains("2 of 2") && pools.contains("1 available"),
        "{pools}"
    );
    assert!(
        prints(&service, &["runner", "show", "fell-01"])
            .await
            .contains("available for")
    );

    let submit = [
        "job",
        "submit",
        "--project",
        "buoy",
        "--where",
        "bench",
        "--variable",
        "A=b",
    ];
    let follow =
        |script: &'static str| [&submit[..], &["--follow", "--", "sh", "-c", script]].concat();
    let good = pennine(&service, &follow("echo $A")).await;
    assert_eq!(good.status.code(), Some(0));
    assert!(String::from_utf8_lossy(&good.stdout).contains("\nb\n"));
    let bad = pennine(&service, &follow("exit 3")).await;
    assert_eq!(bad.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&bad.stderr).contains("failure (exit code 3)"));
    let refused = pennine(
        &service,
        &[
            "job",
            "submit",
            "--project",
            "buoy",
            "--where",
            "a b",
            "--",
            "true",
        ],
    )
    .await;
    assert_eq!(refused.status.code(), Some(3));
    assert!(
        String::from_utf8_lossy(&refused.stderr).contains("\n  a b\n    ^\n"),
        "the column is pointed at"
    );

    let shown = prints(&service, &["job", "show", "j-1"]).await;
    for part in [
        "ready", "started", "finished", "waited", "handover", "fell-01", "success",
    ] {
        assert!(shown.contains(part), "{part} is missing in:\n{shown}");
    }
    assert!(
        prints(&service, &["job", "log", "j-1"])
            .await
            .contains("$ sh -c")
    );
    let unknown = pennine(&service, &["job", "show", "j-99"]).await;
    assert_eq!(unknown.status.code(), Some(3));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_nothing_can_run_is_explained() {
    let service = Service::start().await;
    service.furnish().await;
    let bench = PoolChange {
        labels: Some(vec!["bench".into()]),
        ..PoolChange::default()
    };
    service.client.change_pool("staithe", &bench).await.unwrap();
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let waits = prints(
        &service,
        &[
            "job",
            "submit",
            "--project",
            "buoy",
            "--where",
            "bnech",
            "--",
            "true",
        ],
    )
    .await;
    assert!(waits.contains("j-1 is submitted"), "{waits}");
    service
        .job_when("j-1", "no-match", |job| {
            job.line.reason == Some(pennine_core::dispatch::Reason::NoMatch)
        })
        .await;
    let why = prints(&service, &["why", "j-1"]).await;
    assert!(
        why.contains("did you mean \"bench\"?") && why.contains("To do: "),
        "{why}"
    );
    let queue = prints(&service, &["queue"]).await;
    assert!(
        queue.starts_with("no-match (1 job") && queue.contains("firmware/buoy wants bnech"),
        "{queue}"
    );
    assert!(
        prints(&service, &["job", "list"])
            .await
            .contains("waits: no-match")
    );
    assert!(
        prints(&service, &["status"])
            .await
            .contains("It needs your attention.")
    );
    assert_eq!(
        prints(&service, &["job", "cancel", "j-1"]).await,
        "j-1 is done, with cancellation.\n"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_reading_verb_gives_json() {
    let service = Service::start().await;
    service.furnish().await;
    service.submit("nowhere", "true").await;
    for arguments in [
        &["status"][..],
        &["queue"],
        &["why", "j-1"],
        &["team", "list"],
        &["project", "list"],
        &["pool", "list"],
        &["pool", "show", "staithe"],
        &["ticket", "list"],
        &["runner", "list"],
        &["job", "list"],
        &["job", "show", "j-1"],
        &["target", "list"],
        &["alert", "list", "--all"],
        &["listener", "list"],
    ] {
        let output = pennine(&service, &[arguments, &["--json"]].concat()).await;
        assert!(output.status.success());
        serde_json::from_slice::<serde_json::Value>(&output.stdout)
            .unwrap_or_else(|e| panic!("{arguments:?}: {e}"));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_is_set_and_retired_and_tickets_are_shared_and_revoked() {
    let service = Service::start().await;
    service.furnish().await;
    let many = [
        "ticket", "add", "--pool", "staithe", "--uses", "5", "--names", "fell-*",
    ];
    let made = prints(&service, &many).await;
    assert!(made.contains("for 5 machines called fell-*"), "{made}");
    let tickets = prints(&service, &["ticket", "list"]).await;
    assert!(
        tickets.contains("0 of 5") && tickets.contains("in 59 min"),
        "{tickets}"
    );
    let revoked = prints(&service, &["ticket", "revoke", "t-1"]).await;
    assert!(
        revoked.contains("no machines have joined with it"),
        "{revoked}"
    );
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let set = [
        "runner",
        "set",
        "fell-01",
        "--label",
        "bench",
        "--fact",
        "scope=4.1",
        "--slots",
        "3",
        "--variable",
        "CC=clang",
    ];
    assert!(
        prints(&service, &set)
            .await
            .contains("Changed the runner fell-01")
    );
    let shown = prints(&service, &["runner", "show", "fell-01"]).await;
    for message in [
        "label bench",
        "has it",
        "4.1 (set by admin)",
        "variable CC",
        "0 of 3 slots",
    ] {
        assert!(shown.contains(message), "{message} in {shown}");
    }
    let reset = [
        "runner",
        "set",
        "fell-01",
        "--reset",
        "slots",
        "--reset",
        "fact:scope",
    ];
    prints(&service, &reset).await;
    let shown = prints(&service, &["runner", "show", "fell-01"]).await;
    assert!(
        shown.contains("0 of 1 slots") && !shown.contains("scope"),
        "{shown}"
    );
    let wrong = pennine(&service, &["runner", "set", "fell-01", "--reset", "all"]).await;
    assert_eq!(wrong.status.code(), Some(2));
    let away = prints(&service, &["runner", "list", "--away", "7"]).await;
    assert!(away.contains("All runners polled"), "{away}");
    let seen = prints(&service, &["runner", "retire", "fell-01", "--preview"]).await;
    assert!(seen.contains("No jobs would be affected"), "{seen}");
    let retired = prints(&service, &["runner", "retire", "fell-01"]).await;
    assert!(retired.contains("Retired fell-01"), "{retired}");
}

#[test]
fn the_package_has_programs_units_users_completions_and_manual_pages() {
    let folder = tempfile::tempdir().unwrap();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/package");
    let made = Command::new(script)
        .arg("--from")
        .arg(program("pennined").parent().unwrap())
        .arg("--out")
        .arg(folder.path())
        .output()
        .unwrap();
    assert!(made.status.success(), "{made:?}");
    let package = String::from_utf8(made.stdout).unwrap();
    let unpacked = folder.path().join("unpacked");
    let status = Command::new("dpkg-deb")
        .args(["--raw-extract", package.trim()])
        .arg(&unpacked)
        .status()
        .unwrap();
    assert!(status.success());
    for path in [
        "DEBIAN/postinst",
        "etc/pennine/pennined.toml",
        "usr/bin/pennine",
        "usr/bin/pennine-runner",
        "usr/bin/pennined",
        "usr/lib/sysusers.d/pennine.conf",
        "usr/lib/systemd/system/pennined.service",
        "usr/share/bash-completion/completions/pennine",
        "usr/share/doc/pennine/pennined.default.toml",
        "usr/share/zsh/vendor-completions/_pennine",
        "usr/share/fish/vendor_completions.d/pennine.fish",
        "usr/share/man/man1/pennine-job-submit.1.gz",
    ] {
        assert!(unpacked.join(path).exists(), "{path}");
    }
    let runner = "usr/lib/systemd/system/pennine-runner.service";
    let unit = std::fs::read_to_string(unpacked.join(runner)).unwrap();
    for line in [
        "ExecStart=/usr/bin/pennine-runner work --dir \"/var/lib/pennine-runner\"",
        "User=pennine-runner",
        "ConditionPathExists=/var/lib/pennine-runner/runner.json",
    ] {
        assert!(unit.lines().any(|found| found == line), "{line}\n{unit}");
    }
    // Its settings are ones that the service knows.
    let settings = unpacked.join("etc/pennine/pennined.toml");
    let checked = Command::new(program("pennined"))
        .arg("migrate-objects")
        .arg("--config")
        .arg(settings)
        .env_clear()
        .output()
        .unwrap();
    let refused = String::from_utf8_lossy(&checked.stderr).into_owned();
    assert!(refused.contains("no bucket is configured"), "{refused}");
}
