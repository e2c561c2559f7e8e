//! The JSON of the runner's protocol and of errors, to the letter: programs of an earlier version read and write it.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use pennine_core::id::{AttemptId, LeaseToken, SessionId};
use pennine_core::job_policy::{IsolationLevel, JobLimits, JobPolicy};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::phase::Phases;
use pennine_core::size::ByteSize;
use pennine_core::source::JobSource;
use pennine_core::time::Micros;
use pennine_core::trust::Trust;
use pennine_wire::runner_protocol::{
    Assigned, AttemptPhase, FinishedReport, HeldAttempt, LossCause, LostReport, Poll, PollAnswer,
    Settings, StartedReport, Stop, StopCause,
};
use pennine_wire::{NewJob, Problem};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

const ID: &str = "00000000-0000-0000-0000-000000000007";

fn id() -> Uuid {
    Uuid::from_u128(7)
}

/// The value is written as this JSON, and read back from it as the same JSON.
fn is_written_as<T: Serialize + DeserializeOwned>(value: &T, expected: &Value) {
    let written = serde_json::to_value(value).unwrap();
    assert_eq!(&written, expected);
    let read: T = serde_json::from_value(written).unwrap();
    assert_eq!(&serde_json::to_value(read).unwrap(), expected);
}

#[test]
fn a_poll() {
    let poll = Poll {
        protocol: 1,
        session: SessionId(id()),
        sequence: 42,
        free: 1,
        held: vec![HeldAttempt {
            attempt: AttemptId(id()),
            lease: LeaseToken(id()),
            phase: AttemptPhase::Finalizing,
            exited_ago_us: Some(Micros(1_500)),
            stopping: None,
        }],
        about: None,
        at_once: false,
        settings_version: 3,
        leaving: true,
        room: Some(2),
        takes_no_jobs: None,
    };
    is_written_as(
        &poll,
        &json!({
            "protocol": 1, "session": ID, "sequence": 42, "free": 1,
            "held": [{"attempt": ID, "lease": ID, "phase": "finalizing", "exited_ago_us": 1_500}],
            "at_once": false, "settings_version": 3, "leaving": true, "room": 2,
        }),
    );
}

#[test]
fn the_answer_to_a_poll() {
    let answer = PollAnswer {
        sequence: 42,
        assignments: vec![Assigned {
            attempt: AttemptId(id()),
            lease: LeaseToken(id()),
            number: 1,
            job: "j-4812".into(),
            title: "build and test".into(),
            project: "firmware/buoy".into(),
            pool: "staithe".into(),
            pool_labels: vec!["linux".into()],
            runner: "fell-01".into(),
            requirement: "gcc >= 12".into(),
            command: vec!["make".into(), "check".into()],
            variables: BTreeMap::from([("CC".to_owned(), "gcc".to_owned())]),
            secrets: BTreeMap::from([(
                "SIGNING_KEY".to_owned(),
                pennine_core::secret::SecretUse::File,
            )]),
            inherited_variables: BTreeMap::from([("STATION".to_owned(), "north".to_owned())]),
            time_limit_us: Micros(3_600_000_000),
            log_cap: ByteSize(1 << 30),
            exclusive: true,
            policy: JobPolicy {
                isolation: IsolationLevel::Sandbox,
                network: false,
                limits: JobLimits {
                    memory: Some(ByteSize(1 << 30)),
                    processes: Some(512),
                    ..JobLimits::default()
                },
            },
            trust: Trust::Untrusted,
            commands: vec!["make".into(), "make check".into()],
            source: Some(JobSource::Archive {
                bytes: ByteSize(4096),
                digest: "9f86d081".into(),
            }),
        }],
        stop: vec![Stop {
            attempt: AttemptId(id()),
            cause: StopCause::Cancelled,
            message: "cancelled by ada".into(),
        }],
        settings: Settings::default(),
        own: None,
        renew: false,
        policy: Some(JobPolicy::default()),
    };
    is_written_as(
        &answer,
        &json!({
            "sequence": 42,
            "assignments": [{
                "attempt": ID, "lease": ID, "number": 1, "job": "j-4812", "title": "build and test",
                "project": "firmware/buoy", "pool": "staithe", "pool_labels": ["linux"], "runner": "fell-01",
                "where": "gcc >= 12", "command": ["make", "check"], "variables": {"CC": "gcc"}, "secrets": {"SIGNING_KEY": "file"}, "inherited_variables": {"STATION": "north"},
                "time_limit_us": 3_600_000_000_u64, "log_cap": 1 << 30, "exclusive": true,
                "policy": {"isolation": "sandbox", "network": false, "limits": {"memory": 1 << 30, "processes": 512}},
                "trust": "untrusted", "commands": ["make", "make check"], "source": {"archive": {"bytes": 4096, "digest": "9f86d081"}},
            }],
            "stop": [{"attempt": ID, "cause": "cancelled", "message": "cancelled by ada"}],
            "settings": {"park_us": 8_000_000, "lease_us": 30_000_000, "log_chunk": 4 << 20},
            "renew": false, "policy": {"isolation": "process", "network": true, "limits": {}},
        }),
    );
}

#[test]
fn reports_of_an_attempt() {
    let (session, lease) = (SessionId(id()), LeaseToken(id()));
    let started = StartedReport {
        session,
        lease,
        ago_us: Micros(250),
    };
    is_written_as(
        &started,
        &json!({"session": ID, "lease": ID, "ago_us": 250}),
    );
    let finished = FinishedReport {
        session,
        lease,
        result: Outcome::Timeout,
        exit_code: None,
        message: Some("it ran into its time limit of 1 h".into()),
        exited_ago_us: Micros(10),
        phases: Phases {
            source_us: Some(Micros(7)),
            commands_us: vec![Micros(8), Micros(9)],
        },
        processor_us: Some(Micros(915)),
        peak_memory: None,
        bytes_read: None,
        bytes_written: None,
        log_bytes: ByteSize(512),
        log_capped: true,
        started_ago_us: None,
    };
    is_written_as(
        &finished,
        &json!({
            "session": ID, "lease": ID, "result": "timeout", "message": "it ran into its time limit of 1 h",
            "exited_ago_us": 10, "phases": {"source_us": 7, "commands_us": [8, 9]}, "processor_us": 915, "log_bytes": 512, "log_capped": true,
        }),
    );
    let lost = LostReport {
        cause: LossCause::CutOff,
        session,
        lease,
        log_bytes: ByteSize(0),
    };
    is_written_as(
        &lost,
        &json!({"cause": "cut-off", "session": ID, "lease": ID, "log_bytes": 0}),
    );
}

#[test]
fn missing_fields_have_defaults_and_unknown_ones_are_ignored() {
    let poll: Poll = serde_json::from_value(json!({
        "protocol": 1, "session": ID, "sequence": 1, "free": 0, "mood": "good",
    }))
    .unwrap();
    assert_eq!((poll.held.len(), poll.at_once, poll.room), (0, false, None));
    let lost: LostReport =
        serde_json::from_value(json!({"session": ID, "lease": ID, "log_bytes": 3})).unwrap();
    assert_eq!(lost.cause, LossCause::Restarted);
}

#[test]
fn an_unknown_key_of_a_submission_is_refused() {
    let least = json!({"project": "buoy", "command": ["true"]});
    let job: NewJob = serde_json::from_value(least).unwrap();
    assert_eq!((job.requirement.as_str(), job.tries), ("", None));
    let misspelt = json!({"project": "buoy", "command": ["true"], "titel": "x"});
    let refused = serde_json::from_value::<NewJob>(misspelt).unwrap_err();
    assert!(
        refused.to_string().contains("unknown field `titel`"),
        "{refused}"
    );
}

#[test]
fn a_problem_is_written_as_rfc_9457_has_it() {
    let problem = Problem {
        kind: "/problems/unknown-pool".into(),
        title: "There is no such pool".into(),
        status: 404,
        detail: "there is no pool \"quey\"".into(),
        instance: None,
        field: Some("pool".into()),
        column: None,
        remedy: Some("pennine pool list shows the known ones".into()),
        next_offset: None,
        version: None,
    };
    is_written_as(
        &problem,
        &json!({
            "type": "/problems/unknown-pool", "title": "There is no such pool", "status": 404,
            "detail": "there is no pool \"quey\"", "field": "pool",
            "remedy": "pennine pool list shows the known ones",
        }),
    );
    assert_eq!(problem.word(), "unknown-pool");
}
