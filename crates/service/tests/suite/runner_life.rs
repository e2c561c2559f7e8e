//! A runner's life as people direct it: what they set of it, stopping, leaving, retiring.

use crate::support::{Runner, Service, until};
use pennine_core::dispatch::Reason;
use pennine_core::fact::FactValue;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_wire::{NewTicket, Retirement, RunnerChange};
use std::os::unix::fs::PermissionsExt;

fn label(name: &str, has: Option<bool>) -> RunnerChange {
    RunnerChange {
        labels: [(name.to_owned(), has)].into(),
        ..RunnerChange::default()
    }
}

fn text(value: &str) -> Option<FactValue> {
    Some(FactValue::Text(value.to_owned()))
}

fn printed(output: &std::process::Output) -> String {
    let errors = String::from_utf8_lossy(&output.stderr);
    format!("{}{errors}", String::from_utf8_lossy(&output.stdout))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn overrides_replace_reported_facts_and_reach_the_jobs() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let change = RunnerChange {
        description: Some("beside the wave tank".into()),
        slots: Some(Some(2)),
        facts: [("scope".to_owned(), text("4.1"))].into(),
        variables: [("SCOPE".to_owned(), Some("left".to_owned()))].into(),
        ..label("Bench", Some(true))
    };
    let changed = service
        .client
        .change_runner("fell-01", &change)
        .await
        .unwrap();
    assert!(changed.done && changed.losses.is_empty());
    let shown = service.client.runner("fell-01").await.unwrap();
    assert_eq!(shown.description, "beside the wave tank");
    assert_eq!((shown.slots, shown.labels), (2, vec!["bench".to_owned()]));
    assert_eq!(shown.set.labels["bench"].by, "admin");
    assert_eq!(shown.facts["scope"], FactValue::Text("4.1".into()));
    // Two at once, each with the variable.
    let script = "echo the scope is $SCOPE; while [ ! -e ../../../shared/go ]; do sleep 0.05; done";
    let jobs = [
        service.submit("bench and scope >= 4", script).await,
        service.submit("bench and scope >= 4", script).await,
    ];
    service.runner_when("fell-01", RunnerState::Busy).await;
    std::fs::write(runner.shared("go"), "").unwrap();
    for job in &jobs {
        assert_eq!(service.done(job).await.line.result, Some(Outcome::Success));
        let log = String::from_utf8(service.log(job).await).unwrap();
        assert!(log.contains("the scope is left"), "{log}");
        assert!(log.contains("satisfied here"), "{log}");
    }
    // It is kept over its restart, and what its machine says then changes nothing of it.
    runner.stop();
    runner.work();
    service.runner_when("fell-01", RunnerState::Available).await;
    let job = service.submit("bench", "test $SCOPE = left").await;
    assert_eq!(service.done(&job).await.line.result, Some(Outcome::Success));
    // Taken back, the machine's word is there again.
    let back = RunnerChange {
        slots: Some(None),
        accept_losses: true,
        ..label("bench", None)
    };
    service
        .client
        .change_runner("fell-01", &back)
        .await
        .unwrap();
    let shown = service.client.runner("fell-01").await.unwrap();
    assert_eq!((shown.slots, shown.labels.len()), (1, 0));
    let job = service.submit("bench", "true").await;
    let unmatched = |job: &pennine_wire::Job| job.line.reason == Some(Reason::NoMatch);
    service.job_when(&job, "no-match", unmatched).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_folder_set_for_programs_is_searched_by_jobs_and_for_facts() {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let tools = tempfile::tempdir().unwrap();
    let all = std::fs::Permissions::from_mode(0o755);
    std::fs::set_permissions(tools.path(), all).unwrap();
    let tool = tools.path().join("scopectl");
    std::fs::write(&tool, "#!/bin/sh\necho scopectl 4.1.7\n").unwrap();
    std::fs::set_permissions(&tool, std::fs::Permissions::from_mode(0o755)).unwrap();
    let probe = "[scope]\nprogram = \"scopectl\"\nask = \"--version\"\n";
    std::fs::write(runner.home.path().join("probes.toml"), probe).unwrap();
    let folder = tools.path().to_str().unwrap().to_owned();
    let change = RunnerChange {
        paths: Some(Some(vec![folder])),
        ..RunnerChange::default()
    };
    service
        .client
        .change_runner("fell-01", &change)
        .await
        .unwrap();
    let job = service.submit("scope >= 4.1", "scopectl").await;
    assert_eq!(service.done(&job).await.line.result, Some(Outcome::Success));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn wrong_settings_are_refused_with_the_field() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let fact = |name: &str, value: &str| RunnerChange {
        facts: [(name.to_owned(), text(value))].into(),
        ..RunnerChange::default()
    };
    let variable = |name: &str, value: &str| RunnerChange {
        variables: [(name.to_owned(), Some(value.to_owned()))].into(),
        ..RunnerChange::default()
    };
    let none = RunnerChange::default;
    for (change, field) in [
        (label("a b", Some(true)), "labels[0]"),
        (label("not", Some(true)), "labels[0]"),
        (fact("mem", "much"), "facts"),
        (fact("runner", "x"), "facts"),
        (variable("1X", ""), "variables"),
        (variable("X", "a\0b"), "variables.X"),
        (variable("X", &"x".repeat(70_000)), "variables"),
        (
            RunnerChange {
                slots: Some(Some(0)),
                ..none()
            },
            "slots",
        ),
        (
            RunnerChange {
                paths: Some(Some(vec!["bin".into()])),
                ..none()
            },
            "paths",
        ),
        (
            RunnerChange {
                name: Some("-".into()),
                ..none()
            },
            "name",
        ),
        (
            RunnerChange {
                description: Some("x".repeat(501)),
                ..none()
            },
            "description",
        ),
    ] {
        let refused = service
            .client
            .change_runner("fell-01", &change)
            .await
            .unwrap_err();
        let problem = refused.problem().expect("a problem");
        assert_eq!(
            (problem.status, problem.field.as_deref()),
            (422, Some(field)),
            "{change:?}"
        );
    }
    let _second = Runner::working(&service, "staithe", "fell-02", 1).await;
    let taken = RunnerChange {
        name: Some("fell-01".into()),
        ..none()
    };
    let refused = service
        .client
        .change_runner("fell-02", &taken)
        .await
        .unwrap_err();
    assert_eq!(refused.problem().unwrap().word(), "exists-already");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn removing_a_label_or_the_last_runner_lists_the_jobs_that_lose_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let set = label("bench", Some(true));
    service.client.change_runner("fell-01", &set).await.unwrap();
    let job = service.submit("bench", "true").await;
    service.done(&job).await;
    let mut take = label("bench", Some(false));
    let refused = service
        .client
        .change_runner("fell-01", &take)
        .await
        .unwrap_err();
    let problem = refused.problem().unwrap();
    assert_eq!(problem.word(), "jobs-would-be-stranded");
    assert!(
        problem.detail.contains("firmware/buoy"),
        "{}",
        problem.detail
    );
    take.preview = true;
    let seen = service
        .client
        .change_runner("fell-01", &take)
        .await
        .unwrap();
    assert!(!seen.done);
    assert_eq!(
        (seen.losses[0].requirement.as_str(), seen.losses[0].recent),
        ("bench", 1)
    );
    let shown = service.client.runner("fell-01").await.unwrap();
    assert_eq!(shown.labels, ["bench"], "a preview changes nothing");
    let mut how = Retirement::default();
    let refused = service
        .client
        .retire_runner("fell-01", &how)
        .await
        .unwrap_err();
    assert_eq!(refused.problem().unwrap().word(), "jobs-would-be-stranded");
    how.accept_losses = true;
    let retired = service.client.retire_runner("fell-01", &how).await.unwrap();
    assert_eq!(
        (retired.done, retired.runner.state),
        (true, RunnerState::Retired)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_busy_runner_is_retired_only_by_force_and_its_jobs_are_retried() {
    let service = Service::start().await;
    service.furnish().await;
    let mut first = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let script = "test $PENNINE_ATTEMPT_NUMBER = 2 || sleep 1000";
    let job = service.submit("", script).await;
    service.runner_when("fell-01", RunnerState::Busy).await;
    let _second = Runner::working(&service, "staithe", "fell-02", 1).await;
    service.runner_when("fell-02", RunnerState::Available).await;
    let mut how = Retirement {
        accept_losses: true,
        ..Retirement::default()
    };
    let refused = service
        .client
        .retire_runner("fell-01", &how)
        .await
        .unwrap_err();
    let problem = refused.problem().unwrap();
    assert_eq!(problem.word(), "runner-has-jobs");
    assert!(problem.detail.contains(&job), "{}", problem.detail);
    how.force = true;
    let retired = service.client.retire_runner("fell-01", &how).await.unwrap();
    assert_eq!(retired.ends[0].job, job);
    let done = service.done(&job).await;
    assert_eq!(done.line.result, Some(Outcome::Success));
    let message = done.attempts[0].message.clone().unwrap_or_default();
    assert_eq!(message, "fell-01 was retired");
    assert_eq!(
        first.ended().await.code(),
        Some(3),
        "its program ends by itself"
    );
    // The record stays, and the name is free again.
    let shown = service.client.runner(&retired.runner.short).await.unwrap();
    assert_eq!(shown.reason, "admin retired it");
    let _again = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_is_controlled_at_its_machine_without_a_secret() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    for (verb, state) in [
        ("pause", RunnerState::Paused),
        ("drain", RunnerState::Draining),
        ("resume", RunnerState::Available),
    ] {
        let told = runner.say(&[verb]);
        assert!(told.status.success(), "{}", printed(&told));
        service.runner_when("fell-01", state).await;
    }
    let told = printed(&runner.say(&["status"]));
    assert!(
        told.contains("fell-01") && told.contains("a user on fell-01"),
        "{told}"
    );
    // The machine, or a thief of its credential, cannot resume a runner that an operator has paused.
    let pause = service
        .client
        .set_desired_state("fell-01", DesiredState::Pause);
    pause.await.unwrap();
    service.runner_when("fell-01", RunnerState::Paused).await;
    assert!(runner.say(&["drain"]).status.success());
    let refused = runner.say(&["resume"]);
    assert_eq!(refused.status.code(), Some(3));
    let refused = printed(&refused);
    assert!(
        refused.contains("admin has paused or drained fell-01")
            && refused.contains("pennine runner resume"),
        "{refused}"
    );
    let left = runner.say(&["leave"]);
    assert!(left.status.success(), "{}", printed(&left));
    assert!(printed(&left).contains("has left"), "{}", printed(&left));
    assert_eq!(runner.ended().await.code(), Some(3));
    let again = printed(&runner.say(&["leave"]));
    assert!(again.contains("has not joined"), "{again}");
    let ticket = service.ticket("staithe").await;
    let server = [
        "--server",
        &service.url,
        "--ticket",
        &ticket,
        "--name",
        "fell-01",
    ];
    let joined = Runner::join(runner.home.path(), &server);
    assert!(joined.status.success(), "{}", printed(&joined));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_is_stopping_finishes_its_job_and_takes_no_new_one() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let script = "while [ ! -e ../../../shared/go ]; do sleep 0.05; done; echo through";
    let job = service.submit("", script).await;
    let runs = |job: &pennine_wire::Job| job.line.started_at.is_some();
    service.job_when(&job, "started", runs).await;
    runner.signal("TERM");
    service.runner_when("fell-01", RunnerState::Draining).await;
    let later = service.submit("", "true").await;
    let paused = |job: &pennine_wire::Job| job.line.reason == Some(Reason::Paused);
    service.job_when(&later, "paused", paused).await;
    std::fs::write(runner.shared("go"), "").unwrap();
    assert!(runner.ended().await.success());
    let done = service.done(&job).await;
    assert_eq!(
        (done.line.result, done.attempts.len()),
        (Some(Outcome::Success), 1)
    );
    service.runner_when("fell-01", RunnerState::Offline).await;
    // After its restart it takes work again, as before.
    runner.work();
    assert_eq!(
        service.done(&later).await.line.result,
        Some(Outcome::Success)
    );
    // Told twice, it stops at once.
    let long = service.submit("", "sleep 1000").await;
    service.job_when(&long, "started", runs).await;
    runner.signal("TERM");
    service.runner_when("fell-01", RunnerState::Draining).await;
    runner.signal("TERM");
    assert!(runner.ended().await.success());
    until("its runner is offline", || async {
        let shown = service.client.runner("fell-01").await.ok()?;
        (shown.reason == "its program was stopped").then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_ticket_for_several_machines_names_and_labels_them_and_ends_when_revoked() {
    let service = Service::start().await;
    service.furnish().await;
    let new = NewTicket {
        uses: Some(3),
        names: Some("fell-*".into()),
        labels: vec!["calm".into()],
        ..NewTicket::default()
    };
    let made = service.client.add_ticket("staithe", &new).await.unwrap();
    assert_eq!((made.ticket.uses, made.ticket.runner_name), (3, None));
    let join = |name: &str| {
        let home = tempfile::tempdir().unwrap();
        let server = [
            "--server",
            &service.url,
            "--ticket",
            &made.secret,
            "--name",
            name,
        ];
        printed(&Runner::join(home.path(), &server))
    };
    assert!(join("fell-01").contains("Joined"));
    let other = join("loft-01");
    assert!(
        other.contains("names like fell-*") && other.contains("still valid"),
        "{other}"
    );
    assert!(join("fell-02").contains("Joined"));
    let shown = service.client.runner("fell-02").await.unwrap();
    assert_eq!(shown.labels, ["calm"]);
    assert_eq!(shown.set.labels["calm"].by, "admin");
    // The next is like it, and its own.
    let like = NewTicket {
        like: Some(made.ticket.name.clone()),
        ..NewTicket::default()
    };
    let copy = service.client.add_ticket("staithe", &like).await.unwrap();
    assert_eq!(
        (copy.ticket.uses, copy.ticket.names.as_str()),
        (3, "fell-*")
    );
    assert_eq!(copy.ticket.labels, ["calm"]);
    let revoked = service
        .client
        .revoke_ticket(&made.ticket.name)
        .await
        .unwrap();
    assert_eq!((revoked.state.as_str(), revoked.used), ("revoked", 2));
    let refused = join("fell-03");
    assert!(refused.contains("admin revoked the ticket"), "{refused}");
    let again = service
        .client
        .revoke_ticket(&made.ticket.name)
        .await
        .unwrap_err();
    assert_eq!(again.problem().unwrap().word(), "wrong-state");
    for (new, field) in [
        (
            NewTicket {
                uses: Some(0),
                ..NewTicket::default()
            },
            "uses",
        ),
        (
            NewTicket {
                names: Some("a b*".into()),
                ..NewTicket::default()
            },
            "names",
        ),
        (
            NewTicket {
                like: Some("t-999".into()),
                ..NewTicket::default()
            },
            "like",
        ),
        (
            NewTicket {
                labels: vec!["or".into()],
                ..NewTicket::default()
            },
            "labels[0]",
        ),
    ] {
        let refused = service
            .client
            .add_ticket("staithe", &new)
            .await
            .unwrap_err();
        let problem = refused.problem().unwrap();
        assert_eq!(problem.field.as_deref(), Some(field), "{problem:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_second_runner_of_a_host_gets_a_name_of_its_own() {
    let service = Service::start().await;
    service.furnish().await;
    for _ in 0..2 {
        let home = tempfile::tempdir().unwrap();
        let ticket = service.ticket("staithe").await;
        let joined = Runner::join(
            home.path(),
            &["--server", &service.url, "--ticket", &ticket],
        );
        assert!(joined.status.success(), "{}", printed(&joined));
    }
    let runners = service
        .client
        .runners(&Default::default())
        .await
        .unwrap()
        .items;
    let names: Vec<&str> = runners
        .iter()
        .filter(|runner| runner.state != RunnerState::Awaited)
        .map(|runner| runner.name.as_str())
        .collect();
    assert_eq!(names.len(), 2, "{names:?}");
    assert_eq!(names[1], format!("{}-2", names[0]));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn unfinished_enrolments_and_awaited_runners_of_revoked_tickets_are_removed() {
    let service = Service::start().await;
    service.furnish().await;
    let home = tempfile::tempdir().unwrap();
    let ticket = service.ticket("staithe").await;
    let server = [
        "--server",
        &service.url,
        "--ticket",
        &ticket,
        "--name",
        "fell-01",
    ];
    assert!(Runner::join(home.path(), &server).status.success());
    let joined = service.client.runner("fell-01").await.unwrap().short;
    let awaited = service
        .client
        .add_ticket("staithe", &NewTicket::default())
        .await
        .unwrap();
    service
        .client
        .revoke_ticket(&awaited.ticket.name)
        .await
        .unwrap();
    service
        .clock
        .advance(std::time::Duration::from_secs(73 * 3600));
    for (runner, why) in [
        (joined, "it joined and never connected"),
        (
            awaited.ticket.runner_name.unwrap(),
            "its ticket was revoked by admin",
        ),
    ] {
        until("its record is retired", || async {
            let shown = service.client.runner(&runner).await.ok()?;
            (shown.state == RunnerState::Retired && shown.reason == why).then_some(())
        })
        .await;
    }
}
