//! A flood of one thing does not delay another: slow queries, unknown tokens, connections, uploads, logs.

use crate::held_attempts::PollingRunner;
use crate::support::{Runner, Service, until};
use pennine_client::TrendFilter;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, leadership};
use pennine_wire::runner_protocol::{FinishedReport, StartedReport};
use reqwest::StatusCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// The limit of all of a runner's logs, and of one log, in tests; the runner's own lines come on top.
const CAP: u64 = 1 << 20;

async fn epoch(service: &Service) -> i64 {
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    leadership::current(&mut connection).await.unwrap().epoch
}

/// The bytes of a request with the administrator's token, up to its body.
fn head(service: &Service, method: &str, path: &str, more: &str) -> String {
    format!(
        "{method} {path} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {}\r\n{more}\r\n",
        service.token
    )
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_flood_of_questions_that_take_long_delays_neither_runners_nor_other_requests() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let before = epoch(&service).await;
    // Every question about trends waits for this table.
    let mut other = service.database.connect().await;
    let lock = other.transaction().await.unwrap();
    lock.execute("lock table rollup in access exclusive mode", &[])
        .await
        .unwrap();
    // Forty ask again whenever they are answered, so that questions wait for as long as the jobs below take.
    let busy = Arc::new(AtomicUsize::new(0));
    let questions: Vec<_> = (0..40)
        .map(|_| {
            let (client, busy) = (service.client.clone(), busy.clone());
            tokio::spawn(async move {
                loop {
                    let Err(error) = client.trends(&TrendFilter::default()).await else {
                        return;
                    };
                    let problem = error.problem().expect("an answer");
                    assert_eq!(problem.status, 503, "{problem:?}");
                    let is_busy = problem.word() == "busy";
                    busy.fetch_add(usize::from(is_busy), Ordering::Relaxed);
                }
            })
        })
        .collect();
    for _ in 0..5 {
        let name = service.submit("", "true").await;
        let job = service.done(&name).await;
        assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    }
    until(
        "questions without a connection are answered with busy",
        || async { (busy.load(Ordering::Relaxed) > 0).then_some(()) },
    )
    .await;
    assert_eq!(epoch(&service).await, before);
    lock.rollback().await.unwrap();
    for question in questions {
        question.await.unwrap();
    }
    let _ = service
        .client
        .trends(&TrendFilter::default())
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_address_that_shows_many_unknown_tokens_is_slowed_and_others_go_on() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let http = reqwest::Client::new();
    let ask = async |path: &str, token: String| {
        let request = http
            .get(format!("{}{path}", service.url))
            .bearer_auth(token);
        let answer = request.send().await.unwrap();
        let pause = answer.headers().get("retry-after").cloned();
        (answer.status(), pause)
    };
    for path in ["/api/v1/status", "/runner/v1/me"] {
        let mut slowed = 0;
        for number in 0..100 {
            let (status, pause) = ask(path, format!("unknown-{path}-{number}")).await;
            if status == StatusCode::TOO_MANY_REQUESTS {
                assert!(pause.is_some_and(|pause| pause.to_str().unwrap().parse::<u64>().is_ok()));
                slowed += 1;
            } else {
                assert_eq!(status, StatusCode::UNAUTHORIZED);
            }
        }
        assert!(slowed > 50, "{slowed} of 100 at {path}");
    }
    // The same wrong token again is refused for what it is.
    let (status, _) = ask("/api/v1/status", "unknown-/api/v1/status-0".to_owned()).await;
    assert!(
        [StatusCode::UNAUTHORIZED, StatusCode::TOO_MANY_REQUESTS].contains(&status),
        "{status}"
    );
    // Tokens that were valid before are not slowed.
    let name = service.submit("", "true").await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
}

/// Whether a connection is served: it answers a request, or is closed at once.
async fn is_served(stream: &mut TcpStream) -> bool {
    let asked = stream
        .write_all(b"GET /healthz HTTP/1.1\r\nhost: localhost\r\n\r\n")
        .await;
    let mut first = [0; 16];
    asked.is_ok() && matches!(stream.read(&mut first).await, Ok(read) if read > 0)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_beyond_the_limit_of_an_address_are_closed() {
    let service = Service::with(|config| config.limits.connections_per_address = 12).await;
    let address = service.address();
    let mut open = Vec::new();
    let mut closed = 0;
    for _ in 0..30 {
        let mut stream = TcpStream::connect(address).await.unwrap();
        match is_served(&mut stream).await {
            true => open.push(stream),
            false => closed += 1,
        }
    }
    assert!((1..=12).contains(&open.len()), "{} are open", open.len());
    assert_eq!(closed, 30 - open.len());
    open.pop();
    until("the place of a closed connection is free", || async {
        let mut stream = TcpStream::connect(address).await.ok()?;
        is_served(&mut stream).await.then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_that_reads_nothing_is_cut_off() {
    let service = Service::with(|config| config.limits.write_seconds = 1).await;
    let mut stream = TcpStream::connect(service.address()).await.unwrap();
    // More answers than the buffers of both ends hold.
    let request = head(&service, "GET", "/api/v1/openapi.json", "");
    stream
        .write_all(request.repeat(200).as_bytes())
        .await
        .unwrap();
    until("the connection is closed", || async {
        match stream.try_write(b"\r\n") {
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => None,
            Err(_) => Some(()),
            Ok(_) => None,
        }
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn uploads_together_hold_no_more_memory_than_they_may() {
    let service = Service::with(|config| config.limits.upload_memory_bytes = 64 << 10).await;
    let mut first = TcpStream::connect(service.address()).await.unwrap();
    let begun = head(
        &service,
        "POST",
        "/api/v1/history",
        "content-length: 60000\r\n",
    );
    first.write_all(begun.as_bytes()).await.unwrap();
    first.write_all(b"project,").await.unwrap();
    let import = async || {
        let sent = service.client.import_history(vec![b'x'; 50_000]).await;
        sent.unwrap_err().problem().expect("an answer").clone()
    };
    until("the first has its part of the memory", || async {
        (import().await.word() == "busy").then_some(())
    })
    .await;
    drop(first);
    until("the next is read", || async {
        (import().await.status == 422).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_cap_of_a_log_holds_for_a_runner_that_does_not_keep_to_it() {
    let service = Service::with(|config| config.limits.job_log_bytes = CAP).await;
    service.furnish().await;
    let (runner, name, held) = PollingRunner::with_a_job(&service).await;
    let started = StartedReport {
        session: runner.session,
        lease: held.lease,
        ago_us: Micros(0),
    };
    runner.client.started(held.attempt, &started).await.unwrap();
    let chunk = vec![b'x'; 1 << 20];
    let mut length = 0;
    let refused = loop {
        let sent = runner
            .client
            .log(held.attempt, held.lease, length, chunk.clone().into());
        match sent.await {
            Ok(next) => length = next,
            Err(error) => break error.problem().expect("an answer").clone(),
        }
        assert!(length < 4 * CAP, "{length} bytes were taken");
    };
    assert_eq!(refused.word(), "log-too-long", "{refused:?}");
    assert_eq!(refused.next_offset, Some(length));
    assert!((CAP..2 * CAP).contains(&length), "{length}");
    // What it has ends the attempt like any other.
    let finished = FinishedReport {
        session: runner.session,
        lease: held.lease,
        result: Outcome::Success,
        exit_code: Some(0),
        message: Some("ü".repeat(5000)),
        exited_ago_us: Micros(0),
        phases: Default::default(),
        processor_us: None,
        peak_memory: None,
        bytes_read: None,
        bytes_written: None,
        started_ago_us: None,
        log_bytes: ByteSize(length),
        log_capped: true,
    };
    runner
        .client
        .finished(held.attempt, &finished)
        .await
        .unwrap();
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(job.message, Some("ü".repeat(2000)));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_of_a_runner_that_has_sent_its_days_logs_still_ends_with_its_own_result() {
    let service = Service::with(|config| config.limits.runner_log_bytes_per_day = CAP).await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let long = service
        .submit("", "head -c 3000000 /dev/zero | tr '\\0' x; exit 3")
        .await;
    let job = service.done(&long).await;
    let attempt = &job.attempts[0];
    assert_eq!(
        (attempt.result, job.exit_code),
        (Some(Outcome::Failure), Some(3))
    );
    assert!(attempt.log_capped, "{attempt:?}");
    assert_eq!(service.log(&long).await.len() as u64, CAP);
    let next = service.submit("", "echo well").await;
    let job = service.done(&next).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert_eq!(service.log(&next).await, b"");
}
