//! Wrong and hostile input: a clear error that names the field and the remedy, and nothing lost.

use crate::support::{Runner, Service, until};
use pennine_client::{ClientError, JobListFilter, Route, RunnerClient};
use pennine_core::access::Role;
use pennine_core::id::{AttemptId, LeaseToken, SessionId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_wire::runner_protocol::{FinishedReport, StartedReport};
use pennine_wire::{
    NewJob, NewListener, NewPool, NewProject, NewSupplier, NewTeam, NewTicket, Problem,
};
use std::collections::BTreeMap;
use uuid::Uuid;

fn job(change: impl FnOnce(&mut NewJob)) -> NewJob {
    let mut new = NewJob {
        project: "buoy".into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };
    change(&mut new);
    new
}

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    result
        .expect_err("it is refused")
        .problem()
        .expect("with a problem")
        .clone()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_invalid_job_is_refused_at_the_field() {
    let service = Service::start().await;
    service.furnish().await;
    let refused = async |field: &str, change: &dyn Fn(&mut NewJob)| {
        let problem = problem(service.client.submit(&job(|new| change(new)), None).await);
        assert_eq!(problem.field.as_deref(), Some(field), "{problem:?}");
        problem
    };
    let found = refused("where", &|new| {
        new.requirement = "linux and (gcc >= 12".into()
    })
    .await;
    assert_eq!(
        (found.status, found.word(), found.column),
        (422, "wrong-requirement", Some(21))
    );
    let found = refused("project", &|new| new.project = "bouy".into()).await;
    assert_eq!((found.status, found.word()), (404, "unknown-project"));
    assert!(found.remedy.is_some());
    refused("command", &|new| new.command.clear()).await;
    refused("command", &|new| new.command = vec![String::new()]).await;
    refused("command[0]", &|new| new.command = vec!["a\0b".into()]).await;
    refused("command", &|new| new.command = vec!["x".repeat(140_000)]).await;
    refused("variables", &|new| {
        new.variables = BTreeMap::from([("1A".into(), "x".into())])
    })
    .await;
    refused("time_limit_us", &|new| new.time_limit_us = Some(Micros(0))).await;
    refused("time_limit_us", &|new| {
        new.time_limit_us = Some(Micros(u64::MAX))
    })
    .await;
    refused("tries", &|new| new.tries = Some(0)).await;
    refused("title", &|new| new.title = Some("a\nb".into())).await;
    assert!(
        service
            .client
            .jobs(&JobListFilter::default(), None, 10)
            .await
            .unwrap()
            .items
            .is_empty(),
        "nothing was stored"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn strict_refuses_a_word_that_nothing_knows_and_names_the_nearest() {
    let service = Service::start().await;
    service.furnish().await;
    service.add_pool("tank", &["bench"]).await;
    let _runner = Runner::working(&service, "tank", "wave-bench", 1).await;
    let new = job(|new| {
        new.requirement = "bnech".into();
        new.strict = true;
    });
    let found = problem(service.client.submit(&new, None).await);
    assert!(
        found.detail.contains("did you mean \"bench\"?"),
        "{found:?}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn places_and_pools_need_proper_names_that_are_free() {
    let service = Service::start().await;
    service.furnish().await;
    let team = |name: &str, parent: Option<&str>| NewTeam {
        name: name.into(),
        parent: parent.map(str::to_owned),
    };
    for wrong in ["", "a/b", "-x", "na me", &"x".repeat(64)] {
        assert_eq!(
            problem(service.client.add_team(&team(wrong, None)).await)
                .field
                .as_deref(),
            Some("name"),
            "{wrong}"
        );
    }
    assert_eq!(
        problem(service.client.add_team(&team("firmware", None)).await).word(),
        "exists-already"
    );
    let lost = problem(service.client.add_team(&team("x", Some("nowhere"))).await);
    assert_eq!(
        (lost.word(), lost.field.as_deref()),
        ("unknown-team", Some("parent"))
    );
    let project = NewProject {
        name: "buoy".into(),
        team: "nowhere".into(),
    };
    assert_eq!(
        problem(service.client.add_project(&project).await)
            .field
            .as_deref(),
        Some("team")
    );
    let pool = |labels: &[&str]| NewPool {
        name: "tank".into(),
        description: String::new(),
        labels: labels.iter().map(|label| (*label).to_owned()).collect(),
        open: Some(true),
        owner: None,
        ..NewPool::default()
    };
    let found = problem(service.client.add_pool(&pool(&["bench", "not"])).await);
    assert_eq!(found.field.as_deref(), Some("labels[1]"));
    let found = problem(
        service
            .client
            .add_ticket("nowhere", &NewTicket::default())
            .await,
    );
    assert_eq!((found.status, found.word()), (404, "unknown-pool"));
    let found = problem(
        service
            .client
            .add_ticket(
                "staithe",
                &NewTicket {
                    lifetime_us: Some(Micros(0)),
                    ..NewTicket::default()
                },
            )
            .await,
    );
    assert_eq!(found.field.as_deref(), Some("lifetime_us"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_ambiguous_name_is_refused_with_its_candidates() {
    let service = Service::start().await;
    service.furnish().await;
    service
        .client
        .add_team(&NewTeam {
            name: "shore".into(),
            parent: None,
        })
        .await
        .unwrap();
    service
        .client
        .add_project(&NewProject {
            name: "buoy".into(),
            team: "shore".into(),
        })
        .await
        .unwrap();
    let found = problem(service.client.submit(&job(|_| ()), None).await);
    assert_eq!(found.word(), "ambiguous-name");
    assert!(
        found.detail.contains("firmware/buoy, shore/buoy"),
        "{found:?}"
    );
    service
        .client
        .submit(&job(|new| new.project = "shore/buoy".into()), None)
        .await
        .expect("the path is plain");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn unknown_jobs_and_runners_are_not_found_whatever_the_text() {
    let service = Service::start().await;
    for text in [
        "j-999",
        "nonsense",
        "r-1",
        "../../etc/passwd",
        "%00",
        "j-99999999999999999999",
    ] {
        assert_eq!(
            problem(service.client.job(text).await).word(),
            "unknown-job",
            "{text}"
        );
        assert_eq!(
            problem(service.client.runner(text).await).word(),
            "unknown-runner",
            "{text}"
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_character_nul_is_refused_wherever_it_stands() {
    let service = Service::start().await;
    service.furnish().await;
    let http = reqwest::Client::new();
    for (path, status) in [
        ("queue?cause=a%00b", 400),
        ("jobs/j%00", 400),
        ("jobs/j%2500", 404),
    ] {
        let url = format!("{}/api/v1/{path}", service.url);
        let answer = http.get(url).bearer_auth(&service.token).send().await;
        assert_eq!(answer.unwrap().status(), status, "{path}");
    }
    let team = NewTeam {
        name: "shore".into(),
        parent: Some("a\0b".into()),
    };
    let refused = problem(service.client.add_team(&team).await);
    assert_eq!(refused.status, 422);
    assert!(refused.detail.contains("U+0000"), "{refused:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_stale_lease_is_refused_and_changes_nothing() {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service.submit("", "sleep 1000").await;
    let job = service
        .job_when(&name, "executing", |job| {
            job.line.state == JobState::Executing
        })
        .await;
    let identity: serde_json::Value =
        serde_json::from_slice(&std::fs::read(runner.home.path().join("runner.json")).unwrap())
            .unwrap();
    let client = RunnerClient::new(
        &service.url,
        identity["credential"].as_str().unwrap(),
        &Route::default(),
    )
    .unwrap();
    let (attempt, lease, session) = (
        job.attempts[0].id,
        LeaseToken(Uuid::new_v4()),
        SessionId(Uuid::now_v7()),
    );
    let finished = FinishedReport {
        session,
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
        log_bytes: ByteSize(0),
        log_capped: false,
        started_ago_us: None,
    };
    assert_eq!(
        problem(client.finished(attempt, &finished).await).word(),
        "stale-lease"
    );
    let started = StartedReport {
        session,
        lease,
        ago_us: Micros(0),
    };
    assert_eq!(
        problem(client.started(attempt, &started).await).word(),
        "stale-lease"
    );
    let sent = client
        .log(attempt, lease, 0, bytes::Bytes::from_static(b"forged\n"))
        .await;
    assert_eq!(problem(sent).word(), "stale-lease");
    let unknown = client.finished(AttemptId(Uuid::now_v7()), &finished).await;
    assert_eq!(problem(unknown).word(), "stale-lease");
    let still = service.client.job(&name).await.unwrap();
    assert_eq!(
        (still.line.state, still.line.result),
        (JobState::Executing, None)
    );
    assert!(
        !service
            .client
            .log(&name, None, 0, Micros(0))
            .await
            .unwrap()
            .bytes
            .starts_with(b"forged")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn private_addresses_of_listeners_and_clouds_are_refused_unless_they_are_allowed() {
    let service = Service::with(|config| config.outgoing.allow.clear()).await;
    for url in [
        "http://169.254.169.254/latest",
        "http://127.0.0.1:5432/",
        "http://[::1]/",
    ] {
        let bell = NewListener {
            name: "bell".into(),
            url: url.into(),
            kinds: Vec::new(),
        };
        let refused = problem(service.client.add_listener(&bell).await);
        assert_eq!(refused.field.as_deref(), Some("url"), "{url}");
        assert!(
            refused.detail.contains("is a private address"),
            "{refused:?}"
        );
        let cloud = NewSupplier {
            name: "chandler".into(),
            kind: "standin-cloud".into(),
            settings: [("url".to_owned(), url.to_owned())].into(),
            ..NewSupplier::default()
        };
        let refused = problem(service.client.add_supplier(&cloud).await);
        assert!(
            refused.detail.contains("is a private address"),
            "{refused:?}"
        );
    }
    // A name is found out when it is resolved.
    let local = NewListener {
        name: "bell".into(),
        url: "http://localhost:9/".into(),
        kinds: Vec::new(),
    };
    service.client.add_listener(&local).await.unwrap();
    let tried = service.client.try_listener("bell").await.unwrap();
    assert!(
        !tried.taken && tried.message.contains("is a private address"),
        "{tried:?}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_token_may_do_what_its_role_includes_and_no_more() {
    let service = Service::start().await;
    service.furnish().await;
    let viewer = service.with_role("eyes", Role::Viewer, "").await;
    viewer.status().await.expect("a viewer looks");
    // What stands in an address may be a secret of the receiver.
    let bell = NewListener {
        name: "bell".into(),
        url: "https://bell.skerry.example/hook?key=tide".into(),
        kinds: Vec::new(),
    };
    service.client.add_listener(&bell).await.unwrap();
    let seen = viewer.listeners().await.unwrap().items.remove(0);
    assert_eq!(seen.url, "https://bell.skerry.example/…");
    for refused in [
        problem(viewer.submit(&job(|_| ()), None).await),
        problem(viewer.add_ticket("staithe", &NewTicket::default()).await),
        problem(
            viewer
                .add_team(&NewTeam {
                    name: "shore".into(),
                    parent: None,
                })
                .await,
        ),
    ] {
        assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    }
    service.client.revoke_token("eyes").await.unwrap();
    until("the revoked token is refused", async || {
        let refused = viewer.status().await.err()?;
        (refused.problem()?.status == 401).then_some(())
    })
    .await;
}
