//! How fast a log is taken in, against the same bytes through a bare handler to a synced file.
//!
//! `cargo bench -p pennined --bench log_ingest`, with a cluster as for `submit_to_started`. One sender, one request at a time,
//! of 4 MiB as a runner sends where so much waits, and of 1 MiB; rounds of both by turns in one run. The bare handler is an
//! axum handler that appends the body to a file and syncs it before it answers.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    dead_code
)]

#[allow(dead_code)]
mod stand;

use axum::Router;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::routing::post;
use pennine_client::{Route, RunnerClient};
use pennine_core::fact::FactValue;
use pennine_core::id::{AttemptId, LeaseToken, SessionId};
use pennine_wire::runner_protocol::{Enrol, PROTOCOL, Poll, RunnerReport, StartedReport};
use pennine_wire::{NewJob, NewTicket};
use stand::{Stand, percentile, stand};
use std::io::Write;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use uuid::Uuid;

const CHUNKS: [usize; 2] = [4 << 20, 1 << 20];
/// Bytes in a round, and rounds of each.
const ROUND: usize = 16 << 20;
const ROUNDS: usize = 16;

async fn append(State(file): State<Arc<Mutex<std::fs::File>>>, body: Bytes) -> &'static str {
    tokio::task::spawn_blocking(move || {
        let mut file = file.lock().unwrap();
        file.write_all(&body).unwrap();
        file.sync_data().unwrap();
    })
    .await
    .unwrap();
    "kept"
}

/// Lines as builds print them.
fn text(length: usize) -> Bytes {
    let mut text = Vec::with_capacity(length + 100);
    let mut n = 0;
    while text.len() < length {
        n += 1;
        writeln!(
            text,
            "line {n} of a log that is rather long, as logs of builds are"
        )
        .unwrap();
    }
    text.truncate(length);
    text.into()
}

fn main() {
    stand::run(measure());
}

/// An attempt whose lease is renewed for as long as the bench runs.
struct OpenAttempt {
    runner: RunnerClient,
    id: AttemptId,
    lease: LeaseToken,
}

async fn open_attempt(stand: &Stand) -> OpenAttempt {
    // A runner that only says what one would.
    let ticket = stand
        .client
        .add_ticket("staithe", &NewTicket::default())
        .await
        .unwrap()
        .secret;
    let anonymous = RunnerClient::new(&stand.address, "", &Route::default()).unwrap();
    let facts = [("os".to_owned(), FactValue::Text("linux".into()))].into();
    let about = RunnerReport {
        facts,
        slots: 1,
        labels: Vec::new(),
        version: "0".into(),
        findings: Vec::new(),
    };
    let enrolled = anonymous
        .enrol(&Enrol {
            protocol: PROTOCOL,
            ticket,
            name: "fell-01".into(),
            slots: 1,
            labels: Vec::new(),
            facts: about.facts.clone(),
            version: "0".into(),
        })
        .await
        .unwrap();
    let runner =
        RunnerClient::new(&stand.address, &enrolled.credential, &Route::default()).unwrap();
    let new = NewJob {
        project: "buoy".into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };
    stand.client.submit(&new, None).await.unwrap();
    let session = SessionId(Uuid::now_v7());
    let mut poll = Poll {
        protocol: PROTOCOL,
        session,
        sequence: 0,
        free: 1,
        held: Vec::new(),
        about: Some(about),
        at_once: false,
        settings_version: 0,
        leaving: false,
        room: None,
        takes_no_jobs: None,
    };
    let assigned = loop {
        poll.sequence += 1;
        let answer = runner.poll(&poll).await.unwrap();
        poll.about = None;
        if let Some(assigned) = answer.assignments.into_iter().next() {
            break assigned;
        }
    };
    let started = StartedReport {
        session,
        lease: assigned.lease,
        ago_us: Duration::ZERO.into(),
    };
    runner.started(assigned.attempt, &started).await.unwrap();
    // Its lease is renewed meanwhile.
    let renewer =
        RunnerClient::new(&stand.address, &enrolled.credential, &Route::default()).unwrap();
    poll.held = vec![pennine_wire::runner_protocol::HeldAttempt {
        attempt: assigned.attempt,
        lease: assigned.lease,
        phase: pennine_wire::runner_protocol::AttemptPhase::Executing,
        exited_ago_us: None,
        stopping: None,
    }];
    tokio::spawn(async move {
        loop {
            poll.sequence += 1;
            let _ = renewer.poll(&poll).await;
        }
    });
    OpenAttempt {
        runner,
        id: assigned.attempt,
        lease: assigned.lease,
    }
}

/// Serves the bare handler; its address.
async fn serve_bare(stand: &Stand) -> String {
    let file = std::fs::File::create(stand.data.path().join("bare")).unwrap();
    let app = Router::new()
        .route("/", post(append))
        .layer(DefaultBodyLimit::max(CHUNKS[0]))
        .with_state(Arc::new(Mutex::new(file)));
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0))
        .await
        .unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, app).await.unwrap() });
    address
}

async fn measure() {
    let stand = stand().await;
    let attempt = open_attempt(&stand).await;
    let bare = serve_bare(&stand).await;
    let http = reqwest::Client::new();
    let mut offset = 0;
    for chunk in CHUNKS {
        let text = text(chunk);
        let requests = ROUND / chunk;
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        for round in 0..=ROUNDS {
            let begun = Instant::now();
            for _ in 0..requests {
                offset = attempt
                    .runner
                    .log(attempt.id, attempt.lease, offset, text.clone())
                    .await
                    .unwrap();
            }
            let mine = begun.elapsed();
            let begun = Instant::now();
            for _ in 0..requests {
                let answer = http.post(&bare).body(text.clone()).send().await.unwrap();
                assert_eq!(answer.text().await.unwrap(), "kept");
            }
            // The first round warms up.
            if round > 0 {
                ours.push(mine);
                theirs.push(begun.elapsed());
            }
        }
        ours.sort();
        theirs.sort();
        let speed = |round: Duration| (ROUND >> 20) as f64 / round.as_secs_f64();
        let mine = speed(percentile(&ours, 0.5));
        let bare = speed(percentile(&theirs, 0.5));
        println!("requests of {} MiB", chunk >> 20);
        println!("  log taken in      {mine:>8.0} MiB/s");
        println!("  bare and synced   {bare:>8.0} MiB/s");
        println!("  ratio             {:>8.2}", mine / bare);
    }
}
