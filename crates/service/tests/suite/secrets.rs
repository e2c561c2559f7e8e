//! Secrets of places and pools: what a job gets, where it shows, and who reads it in the audit log.

use crate::support::{Runner, Service, refusal};
use pennine_client::{AuditFilter, Client};
use pennine_core::access::Role;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::secret::{SecretText, SecretUse};
use pennine_core::trust::Trust;
use pennine_wire::{Job, JobPolicyChange, NewJob, NewSecret, NewTeam, PoolChange, SecretRemoval};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;

/// A value that appears nowhere else.
const VALUE: &str = "slack+water/at?noon=7";

fn at(place: &str, name: &str, value: &str) -> NewSecret {
    NewSecret {
        place: place.into(),
        name: name.into(),
        value: Some(SecretText(value.into())),
        ..NewSecret::default()
    }
}

fn job(secrets: &[(&str, SecretUse)], script: &str) -> NewJob {
    let secrets = secrets.iter();
    NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", script].map(str::to_owned).to_vec(),
        secrets: secrets
            .map(|(name, given)| ((*name).to_owned(), *given))
            .collect(),
        ..NewJob::default()
    }
}

/// Runs a job to its end. Returns it with its log.
async fn run(service: &Service, new: NewJob) -> (Job, String) {
    let taken = service.client.submit(&new, None).await.unwrap();
    let job = service.done(&taken.job.name).await;
    let log = service.log(&taken.job.name).await;
    (job, String::from_utf8_lossy(&log).into_owned())
}

fn hash(text: &str) -> String {
    hex::encode(Sha256::digest(text))
}

async fn audit_of(client: &Client, name: &str) -> Vec<(String, String, serde_json::Value)> {
    let filter = AuditFilter {
        of: Some(name.to_owned()),
        ..AuditFilter::default()
    };
    let entries = client.audit(&filter).await.unwrap().items;
    let entries = entries.into_iter().rev();
    entries.map(|one| (one.what, one.who, one.detail)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_gets_the_secrets_that_it_names_and_its_log_does_not_show_them() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    people
        .set_secret(&at("firmware", "UPLOAD_KEY", VALUE))
        .await
        .unwrap();
    people
        .set_secret(&at("", "CERTIFICATE", "line one of it\nline two of it\n"))
        .await
        .unwrap();
    people
        .set_secret(&at("", "UNUSED", "never handed out"))
        .await
        .unwrap();
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let script = r#"printf %s "$UPLOAD_KEY" | sha256sum; sha256sum "$CERTIFICATE"; stat -c '%a' "$CERTIFICATE"
        echo "key=$UPLOAD_KEY"; printf 'ab%s' "$UPLOAD_KEY" | base64; cat "$CERTIFICATE"; echo "unused=$UNUSED"
        df --output=fstype "$CERTIFICATE" | tail -n 1; printf half; sleep 1; echo done"#;
    let uses = [
        ("UPLOAD_KEY", SecretUse::Variable),
        ("CERTIFICATE", SecretUse::File),
    ];
    for isolation in [
        IsolationLevel::Process,
        IsolationLevel::Sandbox,
        IsolationLevel::None,
    ] {
        let change = PoolChange {
            jobs: Some(JobPolicyChange {
                isolation: Some(isolation),
                ..JobPolicyChange::default()
            }),
            ..PoolChange::default()
        };
        people.change_pool("staithe", &change).await.unwrap();
        let (job, log) = run(&service, job(&uses, script)).await;
        assert_eq!(
            job.line.result,
            Some(Outcome::Success),
            "{isolation}: {log}"
        );
        assert!(log.contains(&hash(VALUE)), "{isolation}: {log}");
        assert!(
            log.contains(&hash("line one of it\nline two of it\n")),
            "{isolation}: {log}"
        );
        assert!(log.contains("\n400\nkey=***\n"), "{isolation}: {log}");
        assert!(
            log.contains("unused=\n") && log.contains("halfdone\n"),
            "{isolation}: {log}"
        );
        assert!(
            log.contains("\nYWJ***c=\n***\nunused=\n"),
            "{isolation}: {log}"
        );
        let is_in_memory = log.contains("\ntmpfs\n");
        assert!(
            is_in_memory || isolation == IsolationLevel::None,
            "{isolation}: {log}"
        );
        for part in ["slack", "line one", "YWJzbGFj"] {
            assert!(!log.contains(part), "{isolation}: {part} in {log}");
        }
    }
    let read = audit_of(people, "UPLOAD_KEY").await;
    let whats: Vec<&str> = read.iter().map(|(what, ..)| what.as_str()).collect();
    assert_eq!(
        whats,
        ["secret.set", "secret.read", "secret.read", "secret.read"]
    );
    let (_, who, detail) = read.last().unwrap();
    assert_eq!(who, "fell-01");
    assert_eq!(
        (&detail["job"], &detail["version"]),
        (&"j-3".into(), &1.into())
    );
    let known = people.secrets(None).await.unwrap().items;
    let used = |name: &str| known.iter().find(|one| one.name == name).unwrap().used_at;
    assert!(used("UPLOAD_KEY").is_some() && used("UNUSED").is_none());
    // Neither the record nor the audit log holds a value.
    let stored =
        "select concat(s, ' ', (select string_agg(detail::text, ' ') from audit)) from secret s";
    let stored = service.database.texts(stored).await.concat();
    assert!(
        !stored.contains("slack") && !stored.contains("line one"),
        "{stored}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_several_secrets_with_one_name_the_pools_counts_then_that_of_the_nearest_place() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    service.add_pool("slipway", &["slip"]).await;
    for (place, value) in [
        ("", "of the root"),
        ("firmware", "of firmware"),
        ("firmware/buoy", "of buoy"),
    ] {
        people
            .set_secret(&at(place, "LICENCE", value))
            .await
            .unwrap();
    }
    let of_pool = NewSecret {
        pool: Some("slipway".into()),
        ..at("", "LICENCE", "of slipway")
    };
    people.set_secret(&of_pool).await.unwrap();
    let only_there = NewSecret {
        name: "DONGLE".into(),
        ..of_pool
    };
    people.set_secret(&only_there).await.unwrap();
    let _standing = Runner::working(&service, "staithe", "fell-01", 1).await;
    let _slip = Runner::working(&service, "slipway", "slip-01", 1).await;
    let script = r#"printf %s "$LICENCE" | sha256sum"#;
    let uses = [("LICENCE", SecretUse::Variable)];
    let on = |pool: &str| NewJob {
        requirement: format!("pool = {pool}"),
        ..job(&uses, script)
    };
    assert!(
        run(&service, on("staithe"))
            .await
            .1
            .contains(&hash("of buoy"))
    );
    assert!(
        run(&service, on("slipway"))
            .await
            .1
            .contains(&hash("of slipway"))
    );
    // A secret that a pool alone has leads the job there.
    let taken = people
        .submit(&job(&[("DONGLE", SecretUse::Variable)], "true"), None)
        .await
        .unwrap();
    assert_eq!(taken.job.requirement, "(pool = slipway)");
    assert_eq!(
        service.done(&taken.job.name).await.line.runner.as_deref(),
        Some("slip-01")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_for_certain_pools_is_received_in_these_alone() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    service.add_pool("slipway", &[]).await;
    let narrowed = NewSecret {
        pools: vec!["slipway".into()],
        ..at("firmware", "UPLOAD_KEY", VALUE)
    };
    people.set_secret(&narrowed).await.unwrap();
    let _standing = Runner::working(&service, "staithe", "fell-01", 1).await;
    let uses = [("UPLOAD_KEY", SecretUse::Variable)];
    let new = NewJob {
        requirement: "linux or arm64".into(),
        ..job(&uses, "true")
    };
    let taken = people.submit(&new, None).await.unwrap();
    assert_eq!(
        taken.job.requirement,
        "(linux or arm64) and (pool = slipway)"
    );
    let _slip = Runner::working(&service, "slipway", "slip-01", 1).await;
    let done = service.done(&taken.job.name).await;
    assert_eq!(done.line.runner.as_deref(), Some("slip-01"));
    // One that was narrowed after the job was submitted is not given to it elsewhere.
    people
        .set_secret(&at("firmware", "UPLOAD_KEY", VALUE))
        .await
        .unwrap();
    let waiting = NewJob {
        requirement: "pool = staithe and later".into(),
        ..job(&uses, "echo begun")
    };
    let waiting = people.submit(&waiting, None).await.unwrap().job.name;
    people.set_secret(&narrowed).await.unwrap();
    let change = PoolChange {
        labels: Some(vec!["later".into()]),
        ..PoolChange::default()
    };
    people.change_pool("staithe", &change).await.unwrap();
    let done = service.done(&waiting).await;
    assert_eq!(done.line.result, Some(Outcome::Error));
    let message = done.message.unwrap_or_default();
    assert!(
        message.contains("may be received in slipway only"),
        "{message}"
    );
    let log = String::from_utf8_lossy(&service.log(&waiting).await).into_owned();
    assert!(
        log.contains("submit the job again") && !log.contains("begun"),
        "{log}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_job_may_not_name_is_refused_when_it_is_submitted() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    let (name, parent) = ("shore".into(), None);
    people.add_team(&NewTeam { name, parent }).await.unwrap();
    people
        .set_secret(&at("firmware", "UPLOAD_KEY", VALUE))
        .await
        .unwrap();
    people
        .set_secret(&at("shore", "OF_OTHERS", "not for firmware"))
        .await
        .unwrap();
    let uses = |name| [(name, SecretUse::Variable)];
    for name in ["UPLOAD_KYE", "OF_OTHERS"] {
        let refused = refusal(people.submit(&job(&uses(name), "true"), None).await);
        assert_eq!(
            (refused.status, refused.field.as_deref()),
            (422, Some("secrets"))
        );
        assert!(
            refused
                .detail
                .contains("secrets of firmware/buoy: UPLOAD_KEY"),
            "{}",
            refused.detail
        );
        assert!(refused.remedy.unwrap().contains("pennine secret set"));
    }
    let untrusted = NewJob {
        trust: Trust::Untrusted,
        ..job(&uses("UPLOAD_KEY"), "true")
    };
    let refused = refusal(people.submit(&untrusted, None).await);
    assert!(
        refused
            .detail
            .contains("an untrusted job is given no secrets"),
        "{}",
        refused.detail
    );
    // Removed in between: the job says so and what to do.
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let waiting = NewJob {
        requirement: "later".into(),
        ..job(&uses("UPLOAD_KEY"), "true")
    };
    let waiting = people.submit(&waiting, None).await.unwrap().job.name;
    let removal = SecretRemoval {
        place: "firmware".into(),
        name: "UPLOAD_KEY".into(),
        ..SecretRemoval::default()
    };
    people.remove_secret(&removal).await.unwrap();
    assert_eq!(refusal(people.remove_secret(&removal).await).status, 404);
    let change = PoolChange {
        labels: Some(vec!["later".into()]),
        ..PoolChange::default()
    };
    people.change_pool("staithe", &change).await.unwrap();
    let done = service.done(&waiting).await;
    let message = done.message.unwrap_or_default();
    assert_eq!(done.line.result, Some(Outcome::Error), "{message}");
    assert!(
        message.contains("neither firmware/buoy nor the pool staithe has a secret UPLOAD_KEY"),
        "{message}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn secrets_are_set_by_administrators_of_the_place_and_their_values_are_never_shown() {
    let service = Service::start().await;
    service.furnish().await;
    let ada = service.with_role("ada", Role::Admin, "firmware").await;
    let ola = service.with_role("ola", Role::Operator, "firmware").await;
    let teo = service
        .with_role("teo", Role::Viewer, "firmware/buoy")
        .await;
    let set = async |client: &Client, new: NewSecret| refusal(client.set_secret(&new).await);
    let first = ada
        .set_secret(&at("firmware/buoy", "KEY", VALUE))
        .await
        .unwrap();
    let second = ada
        .set_secret(&at("firmware/buoy", "KEY", VALUE))
        .await
        .unwrap();
    assert_eq!((first.version, second.version), (1, 2));
    assert_eq!(set(&ada, at("", "KEY", VALUE)).await.status, 403);
    assert_eq!(
        set(&ola, at("firmware/buoy", "KEY", VALUE)).await.status,
        403
    );
    let of_pool = NewSecret {
        pool: Some("staithe".into()),
        ..at("", "KEY", VALUE)
    };
    assert_eq!(set(&ada, of_pool.clone()).await.status, 403);
    service.client.set_secret(&of_pool).await.unwrap();
    let seen = teo.secrets(Some("firmware/buoy")).await.unwrap();
    assert_eq!(seen.items.len(), 1);
    let text = serde_json::to_string(&service.client.secrets(None).await.unwrap()).unwrap();
    assert!(text.contains("KEY") && !text.contains("slack"), "{text}");
    // What is wrong is said at its field.
    let nothing = NewSecret {
        value: None,
        ..at("firmware", "KEY", "")
    };
    let outside = NewSecret {
        reference: Some("kv/tide".into()),
        ..nothing.clone()
    };
    let elsewhere = NewSecret {
        pools: vec!["harbourside".into()],
        ..at("firmware", "KEY", VALUE)
    };
    for (wrong, field) in [
        (at("firmware", "1KEY", VALUE), "name"),
        (at("firmware", "PENNINE_KEY", VALUE), "name"),
        (at("firmware", "KEY", ""), "value"),
        (at("firmware", "KEY", &"x".repeat((64 << 10) + 1)), "value"),
        (at("firmware", "KEY", "a\0b"), "value"),
        (nothing, "value"),
        (outside, "reference"),
        (elsewhere, "pools"),
    ] {
        let refused = set(&ada, wrong.clone()).await;
        assert_eq!(
            refused.field.as_deref(),
            Some(field),
            "{wrong:?}: {refused:?}"
        );
        assert!(!refused.detail.contains("slack"), "{refused:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_of_an_outside_store_is_fetched_when_the_attempt_starts() {
    let folder = tempfile::tempdir().unwrap();
    let program = folder.path().join("fetch");
    let asked = folder.path().join("asked");
    let script = format!(
        "#!/bin/sh\nquestion=$(cat)\necho \"$question\" >> {}\ncase \"$question\" in\n*kv/tide*) echo '{{\"value\": \"{VALUE}\"}}';;\n*) echo '{{\"error\": \"no such entry\"}}';;\nesac\n",
        asked.display()
    );
    std::fs::write(&program, script).unwrap();
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let service = Service::with(|config| config.secrets.program = program.clone()).await;
    service.furnish().await;
    let people = &service.client;
    for (name, reference) in [("TIDE", "kv/tide"), ("EBB", "kv/ebb")] {
        let new = NewSecret {
            value: None,
            reference: Some(reference.into()),
            ..at("firmware", name, "")
        };
        people.set_secret(&new).await.unwrap();
    }
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let script = r#"printf %s "$TIDE" | sha256sum; echo "$TIDE""#;
    let (_, log) = run(&service, job(&[("TIDE", SecretUse::Variable)], script)).await;
    assert!(
        log.contains(&hash(VALUE)) && log.contains("\n***\n"),
        "{log}"
    );
    let question: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(&asked).unwrap()).unwrap();
    let expected = BTreeMap::from([
        ("reference", "kv/tide"),
        ("name", "TIDE"),
        ("place", "firmware"),
        ("job", "j-1"),
        ("project", "firmware/buoy"),
        ("pool", "staithe"),
        ("runner", "fell-01"),
    ]);
    for (key, value) in expected {
        assert_eq!(question[key], value, "{key}");
    }
    let (done, log) = run(&service, job(&[("EBB", SecretUse::Variable)], "echo begun")).await;
    assert_eq!(done.line.result, Some(Outcome::Error));
    let message = done.message.unwrap_or_default();
    assert!(
        message.contains("does not give the secret EBB: no such entry"),
        "{message}"
    );
    assert!(!log.contains("begun"), "{log}");
    let whats: Vec<String> = audit_of(people, "EBB")
        .await
        .into_iter()
        .map(|one| one.0)
        .collect();
    assert_eq!(whats, ["secret.set"]);
}
