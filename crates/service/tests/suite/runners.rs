//! Machines: joining, coming and going.

use crate::support::{Runner, Service, free_port, until};
use pennine_client::{Route, RunnerClient};
use pennine_core::dispatch::Reason;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::id::SessionId;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::NewTicket;
use pennine_wire::runner_protocol::{Enrol, PROTOCOL, Poll};
use std::os::unix::fs::PermissionsExt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use uuid::Uuid;

pub fn enrol(ticket: &str, name: &str) -> Enrol {
    Enrol {
        protocol: PROTOCOL,
        ticket: ticket.into(),
        name: name.into(),
        slots: 1,
        labels: vec![],
        facts: Facts::from([("os".into(), FactValue::Text("linux".into()))]),
        version: "0".into(),
    }
}

pub fn poll(session: SessionId, sequence: u64) -> Poll {
    Poll {
        protocol: PROTOCOL,
        session,
        sequence,
        free: 1,
        held: vec![],
        about: None,
        at_once: true,
        settings_version: 0,
        leaving: false,
        room: None,
        takes_no_jobs: None,
    }
}

fn output_text(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_takes_no_jobs_is_paused_with_its_reason_and_so_is_what_waits_for_it() {
    let service = Service::start().await;
    service.furnish().await;
    let ticket = NewTicket::default();
    let ticket = service.client.add_ticket("staithe", &ticket).await;
    let secret = ticket.unwrap().secret;
    let unknown = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let joined = unknown.enrol(&enrol(&secret, "fell-01")).await.unwrap();
    let runner = RunnerClient::new(&service.url, &joined.credential, &Route::default()).unwrap();
    let session = SessionId(Uuid::now_v7());
    let refusing = Poll {
        takes_no_jobs: Some(format!("no user namespaces{}", "!".repeat(5000))),
        ..poll(session, 1)
    };
    runner.poll(&refusing).await.unwrap();
    service.runner_when("fell-01", RunnerState::Paused).await;
    let shown = service.client.runner("fell-01").await.unwrap();
    assert!(
        shown
            .reason
            .starts_with("takes no jobs: no user namespaces!")
            && shown.reason.len() < 400,
        "{}",
        shown.reason
    );
    let name = service.submit("", "true").await;
    service.why_when(&name, Reason::Paused).await;
    let sequence = AtomicU64::new(2);
    until("it is given the job", async || {
        let next = sequence.fetch_add(1, Ordering::Relaxed);
        let answer = runner.poll(&poll(session, next)).await.unwrap();
        (!answer.assignments.is_empty()).then_some(())
    })
    .await;
    let shown = service.client.runner("fell-01").await.unwrap();
    assert_eq!(shown.reason, "connected");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_is_awaited_then_available_then_busy_then_offline_and_comes_back() {
    let service = Service::start().await;
    service.furnish().await;
    let ticket = service
        .client
        .add_ticket("staithe", &Default::default())
        .await
        .unwrap();
    let awaited = service
        .client
        .runner(ticket.ticket.runner_name.as_deref().unwrap())
        .await
        .unwrap();
    assert_eq!(awaited.state, RunnerState::Awaited);
    assert!(ticket.command.contains(&service.url) && ticket.command.contains(&ticket.secret));
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let shown = service.client.runner("fell-01").await.unwrap();
    for fact in ["os", "arch", "cores", "mem", "disk", "host"] {
        assert!(shown.facts.contains_key(fact), "{fact} is missing");
    }
    let job = service.submit("", "sleep 1000").await;
    service.runner_when("fell-01", RunnerState::Busy).await;
    service.client.cancel(&job).await.unwrap();
    service.done(&job).await;
    // A machine whose power goes: nothing is closed, nothing is said.
    runner.signal("STOP");
    service.time_passes(Duration::from_secs(25)).await;
    service.runner_when("fell-01", RunnerState::Offline).await;
    runner.signal("CONT");
    service.runner_when("fell-01", RunnerState::Available).await;
    runner.stop();
    service.runner_when("fell-01", RunnerState::Offline).await;
    let shown = service.client.runner("fell-01").await.unwrap();
    assert_eq!(shown.reason, "its program was stopped");
    runner.work();
    service.runner_when("fell-01", RunnerState::Available).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connection_that_ends_between_two_polls_is_known_to_have_ended() {
    let service = Service::start().await;
    service.furnish().await;
    let ticket = service
        .client
        .add_ticket("staithe", &Default::default())
        .await
        .unwrap();
    let route = Route::default();
    let client = RunnerClient::new(&service.url, "", &route).unwrap();
    let enrolled = client.enrol(&enrol(&ticket.secret, "fell-01")).await;
    let client = RunnerClient::new(&service.url, &enrolled.unwrap().credential, &route).unwrap();
    client
        .poll(&poll(SessionId(Uuid::now_v7()), 1))
        .await
        .unwrap();
    service.runner_when("fell-01", RunnerState::Available).await;
    drop(client);
    until("it is known that the connection was closed", || async {
        let checked = service.client.check_runner("fell-01").await.ok()?;
        let mut findings = checked.findings.iter();
        let found = findings.find(|one| one.check == "connection")?;
        found
            .message
            .contains("closed its connection")
            .then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_credential_is_readable_by_its_owner_only() {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let mode = std::fs::metadata(runner.home.path().join("runner.json"))
        .unwrap()
        .permissions()
        .mode();
    assert_eq!(mode & 0o777, 0o600);
    let token = std::fs::metadata(service.data.path().join("admin.token"))
        .unwrap()
        .permissions()
        .mode();
    assert_eq!(token & 0o777, 0o600);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failed_join_names_its_cause() {
    let service = Service::start().await;
    service.furnish().await;
    let home = tempfile::tempdir().unwrap();
    let join = |server: &str, ticket: &str| {
        Runner::join(home.path(), &["--server", server, "--ticket", ticket])
    };
    let unreachable = join(&format!("http://127.0.0.1:{}", free_port()), "x");
    assert_eq!(unreachable.status.code(), Some(4));
    assert!(
        output_text(&unreachable).contains("refused")
            && output_text(&unreachable).contains("Is the service running"),
        "{}",
        output_text(&unreachable)
    );
    let scheme = join("127.0.0.1:1", "x");
    assert_eq!(scheme.status.code(), Some(2));
    let unknown = join(&service.url, "pen-ticket-nonsense");
    assert_eq!(unknown.status.code(), Some(3));
    assert!(
        output_text(&unknown).contains("did not issue this ticket"),
        "{}",
        output_text(&unknown)
    );
    let secret = service.ticket("staithe").await;
    let first = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    first.enrol(&enrol(&secret, "fell-01")).await.unwrap();
    let used = join(&service.url, &secret);
    assert!(
        output_text(&used).contains("was used")
            && output_text(&used).contains("pennine ticket add --pool staithe"),
        "{}",
        output_text(&used)
    );
    let secret = service.ticket("staithe").await;
    service.clock.advance(Duration::from_secs(200));
    let taken = Runner::join(
        home.path(),
        &[
            "--server",
            &service.url,
            "--ticket",
            &secret,
            "--name",
            "fell-01",
        ],
    );
    assert!(
        output_text(&taken).contains("already has a runner named \"fell-01\""),
        "{}",
        output_text(&taken)
    );
    service.clock.advance(Duration::from_secs(3700));
    let clock = join(&service.url, &secret);
    assert!(
        output_text(&clock).contains("clock is 1 h"),
        "{}",
        output_text(&clock)
    );
    let error = first.enrol(&enrol(&secret, "fell-02")).await.unwrap_err();
    assert_eq!(error.problem().unwrap().word(), "expired-ticket");
    let stranger = strange_server().await;
    let strange = join(&stranger, "x");
    assert_eq!(strange.status.code(), Some(4));
    assert!(
        output_text(&strange).contains("is not Pennine"),
        "{}",
        output_text(&strange)
    );
    let early = Runner::work_in_vain(home.path());
    assert!(
        output_text(&early).contains("has not joined yet"),
        "{}",
        output_text(&early)
    );
}

/// Something else that speaks HTTP.
async fn strange_server() -> String {
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0))
        .await
        .unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let app = axum::Router::new().fallback(async || "welcome to another service");
    tokio::spawn(async move { axum::serve(listener, app).await });
    url
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_second_live_session_on_one_credential_is_refused_and_a_restart_is_not() {
    let service = Service::start().await;
    service.furnish().await;
    let secret = service.ticket("staithe").await;
    let anonymous = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let credential = anonymous
        .enrol(&enrol(&secret, "fell-01"))
        .await
        .unwrap()
        .credential;
    let client = RunnerClient::new(&service.url, &credential, &Route::default()).unwrap();
    let (one, two) = (SessionId(Uuid::now_v7()), SessionId(Uuid::now_v7()));
    // A session counts as gone 10 s after its last poll: on a machine that stood still for that long between the two
    // requests, the second session is right to begin; then the two are tried again.
    let mut refused = None;
    for _ in 0..5 {
        client.poll(&poll(one, 1)).await.unwrap();
        refused = client.poll(&poll(two, 1)).await.err();
        if refused.is_some() {
            break;
        }
        client.goodbye(two).await.unwrap();
    }
    let refused = refused.expect("a second session beside one that has just polled is refused");
    assert_eq!(refused.problem().unwrap().word(), "session-in-use");
    client.poll(&poll(one, 2)).await.expect("the first goes on");
    client.goodbye(one).await.unwrap();
    client
        .poll(&poll(two, 1))
        .await
        .expect("the next life follows at once");
    // One that vanished is followed after a while.
    service.clock.advance(Duration::from_secs(11));
    client
        .poll(&poll(SessionId(Uuid::now_v7()), 1))
        .await
        .expect("a vanished session does not lock its runner out");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_retired_or_unknown_credential_is_refused_with_join_again() {
    let service = Service::start().await;
    let client = RunnerClient::new(&service.url, "pen-runner-nonsense", &Route::default()).unwrap();
    let refused = client
        .poll(&poll(SessionId(Uuid::now_v7()), 1))
        .await
        .unwrap_err();
    let problem = refused.problem().unwrap();
    assert_eq!((problem.status, problem.word()), (401, "not-signed-in"));
    assert!(problem.remedy.as_ref().unwrap().contains("new ticket"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn another_protocol_is_refused_with_what_to_update() {
    let service = Service::start().await;
    service.furnish().await;
    let secret = service.ticket("staithe").await;
    let client = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let error = client
        .enrol(&Enrol {
            protocol: 99,
            ..enrol(&secret, "fell-01")
        })
        .await
        .unwrap_err();
    assert_eq!(
        error.problem().unwrap().remedy.as_deref(),
        Some("update the service")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_paused_runner_takes_nothing_and_waiting_jobs_say_so() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let desired_state = |desired_state: &str| {
        let request = reqwest::Client::new().put(format!(
            "{}/api/v1/runners/fell-01/desired-state",
            service.url
        ));
        request
            .bearer_auth(&service.token)
            .json(&serde_json::json!({"desired_state": desired_state}))
            .send()
    };
    assert_eq!(desired_state("pause").await.unwrap().status(), 200);
    service.runner_when("fell-01", RunnerState::Paused).await;
    let job = service.submit("linux", "true").await;
    let paused = pennine_core::dispatch::Reason::Paused;
    service
        .job_when(&job, "paused", |job| job.line.reason == Some(paused))
        .await;
    assert_eq!(desired_state("work").await.unwrap().status(), 200);
    service.done(&job).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn reported_facts_are_versioned_and_attempts_point_to_their_version() {
    let service = Service::start().await;
    service.furnish().await;
    let secret = service.ticket("staithe").await;
    let anonymous = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let credential = anonymous
        .enrol(&enrol(&secret, "fell-01"))
        .await
        .unwrap()
        .credential;
    let client = RunnerClient::new(&service.url, &credential, &Route::default()).unwrap();
    let session = SessionId(Uuid::now_v7());
    let mut about = pennine_wire::runner_protocol::RunnerReport {
        findings: Vec::new(),
        facts: Facts::from([("gcc".into(), FactValue::Text("12.2.0".into()))]),
        slots: 1,
        labels: vec![],
        version: "0".into(),
    };
    for (sequence, gcc) in [(1, "12.2.0"), (2, "12.2.0"), (3, "13.1.0")] {
        about
            .facts
            .insert("gcc".into(), FactValue::Text(gcc.into()));
        client
            .poll(&Poll {
                about: Some(about.clone()),
                ..poll(session, sequence)
            })
            .await
            .unwrap();
    }
    let job = service.submit("gcc >= 13", "true").await;
    let answer = until("the job is assigned", || async {
        let answer = client.poll(&poll(session, 4)).await.ok()?;
        (!answer.assignments.is_empty()).then_some(answer)
    })
    .await;
    assert_eq!(answer.assignments[0].job, job);
    let database = service.database.connect().await;
    let rows = database
        .query(
            "select version, facts->>'gcc' from runner_facts order by version",
            &[],
        )
        .await
        .unwrap();
    let versions: Vec<(i32, Option<String>)> =
        rows.iter().map(|row| (row.get(0), row.get(1))).collect();
    let gcc = |version: &str| Some(version.to_owned());
    assert_eq!(
        versions,
        [(1, None), (2, gcc("12.2.0")), (3, gcc("13.1.0"))]
    );
    let row = database
        .query_one("select facts_version, policy_version from attempt", &[])
        .await
        .unwrap();
    assert_eq!((row.get::<_, i32>(0), row.get::<_, i32>(1)), (3, 1));
}
