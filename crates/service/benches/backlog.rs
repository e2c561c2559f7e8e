//! What people see of a very large backlog: 1,000,000 waiting jobs in 50,000 strands (200 requirements in 250 projects) and 10,000
//! runners.
//!
//! `cargo bench -p pennined --bench backlog`, with a cluster and release programs as for `submit_to_started`. The rows are written
//! straight to the database, then a second replica is started and the first is killed: what the second needs to take over is printed,
//! and how long the questions take that people and monitoring ask all the time. Then 400,000 jobs are cancelled, while jobs are
//! submitted one at a time to a real runner. With `-- --hold` it waits before that until a line is entered, so that the console can be
//! looked at.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

#[allow(dead_code)]
mod stand;

use pennine_client::{Client, QueueFilter, Route};
use pennine_core::dispatch::{Band, Reason};
use pennine_wire::{Action, BulkAction, NewJob, NewTicket};
use stand::{Stand, report, root, stand};
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio_postgres::NoTls;

const PROJECTS: usize = 250;
const REQUIREMENTS: usize = 200;
const STRANDS: usize = PROJECTS * REQUIREMENTS;
const JOBS: usize = 1_000_000;
const RUNNERS: usize = 10_000;
const ASKED: usize = 40;
/// Jobs that are executed one at a time, before and while others are cancelled.
const EXECUTED: usize = 100;

/// The backlog: two fifths of the strands want a version or a label that no runner has, the others one runner or many, all of which
/// are offline.
fn backlog() -> String {
    // Version 7 of RFC 9562: the time comes first.
    let id = "(lpad(to_hex((extract(epoch from now()) * 1000)::bigint), 12, '0') || '7' || substr(md5(j::text), 1, 3) || '8'
               || substr(md5(j::text), 4, 15))::uuid";
    format!(
        "insert into place (id, kind, name, path, parent_id, created_at)
           select gen_random_uuid(), 'project', 'p' || n, 'firmware/p' || n, (select id from place where path = 'firmware'), now()
           from generate_series(1, {PROJECTS}) n;
         insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version, program, created_at)
           select gen_random_uuid(), (select id from pool limit 1), 'fell-' || n, 'offline', now(), 'no news', 2,
                  array['rack-' || n % 50], jsonb_build_object('os', 'linux', 'arch', 'x86_64', 'cores', 8, 'mem', '32GiB',
                    'gcc', '12.' || n % 9, 'python', '3.' || n % 13, 'host', 'fell-' || n), 1, '0.1.0', now()
           from generate_series(1, {RUNNERS}) n;
         with p as (select id, row_number() over (order by path) - 1 as n from place where kind = 'project'),
              s as (select n, n / {REQUIREMENTS} as project, case r % 5
                when 0 then case r % 2 when 0 then 'runner = fell-' || 1 + r else 'rack-' || r % 50 end
                when 1 then 'gcc >= 14.' || r
                when 2 then 'lab-' || r
                when 3 then 'linux and rack-' || r % 50 || ' and cores >= ' || 1 + r % 8
                else 'python >= 3.' || r % 13 || ' and cores >= ' || 1 + r % 8 end as requirement
              from (select n, n % {REQUIREMENTS} as r from generate_series(0, {STRANDS} - 1) n) n)
         insert into strand (id, key_hash, key, project_id, created_at)
           select gen_random_uuid(), sha256(('bench ' || s.n)::bytea),
                  jsonb_build_object('requirement', s.requirement, 'project', p.id,
                    'band', (array['urgent', 'normal', 'background'])[1 + s.n % 3]), p.id, now()
           from s join p on p.n = s.project;
         with s as (select id, key, project_id, row_number() over (order by key_hash) - 1 as n from strand)
         insert into job (id, run_id, project_id, strand_id, state, title, requirement, command, variables, time_limit_us, tries, band,
                          created_at, ready_at, waits_since)
           select {id}, {id}, s.project_id, s.id, 'pending', 'build', s.key->>'requirement', '[\"true\"]', '{{}}',
                  3600000000, 1, s.key->>'band', now() - j * interval '1 ms', now() - j * interval '1 ms', now() - j * interval '1 ms'
           from generate_series(1, {JOBS}) j join s on s.n = j % {STRANDS};
         insert into run (id, project_id, created_at, created_by, only_job) select id, project_id, created_at, 'bench', id from job;
         analyze;"
    )
}

async fn fill(stand: &Stand) {
    let (database, connection) = tokio_postgres::connect(&stand.database, NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    database.batch_execute(&backlog()).await.unwrap();
}

/// Starts another replica and returns it with its address and the lines of its log.
fn replica(stand: &Stand) -> (stand::Ended, String, std::sync::mpsc::Receiver<String>) {
    let listener = std::net::TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    drop(listener);
    let mut service = Command::new(root().join("target/release/pennined"))
        .arg("serve")
        .env("PENNINED_DATABASE_URL", &stand.database)
        .env("PENNINED_DATA_DIR", stand.data.path())
        .env("PENNINED_LISTEN", format!("127.0.0.1:{port}"))
        .env("PENNINED_LOG__LEVEL", "info")
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(service.stderr.take().unwrap()).lines();
    let (sent, received) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in lines.map_while(Result::ok) {
            let _ = sent.send(line);
        }
    });
    (
        stand::Ended(service),
        format!("http://127.0.0.1:{port}"),
        received,
    )
}

async fn asked(name: &str, http: &reqwest::Client, url: &str) {
    let (mut times, mut bytes) = (Vec::new(), 0);
    for _ in 0..ASKED {
        let begun = Instant::now();
        let answer = http
            .get(url)
            .send()
            .await
            .unwrap()
            .error_for_status()
            .unwrap();
        bytes = answer.bytes().await.unwrap().len();
        times.push(begun.elapsed());
    }
    report(name, times);
    println!("{:28} {:.1} kB", "", bytes as f64 / 1e3);
}

async fn bench() {
    let mut stand = stand().await;
    let begun = Instant::now();
    fill(&stand).await;
    println!(
        "the backlog is written after {:.0} s",
        begun.elapsed().as_secs_f64()
    );
    let (_second, address, log) = replica(&stand);
    let token = std::fs::read_to_string(stand.data.path().join("admin.token")).unwrap();
    let http = reqwest::Client::builder()
        .default_headers(
            [(
                reqwest::header::AUTHORIZATION,
                format!("Bearer {}", token.trim()).parse().unwrap(),
            )]
            .into_iter()
            .collect(),
        )
        .build()
        .unwrap();
    while http.get(format!("{address}/healthz")).send().await.is_err() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let killed = Instant::now();
    stand.end_service();
    let rebuilt = loop {
        let line = log
            .recv_timeout(Duration::from_secs(120))
            .expect("the second replica leads");
        if line.contains("rebuilt") {
            break line;
        }
    };
    println!(
        "takeover                     {:.2} s from the kill; {}",
        killed.elapsed().as_secs_f64(),
        rebuilt.rsplit("rebuilt").next().unwrap_or_default().trim()
    );
    let client = Client::new(&address, &token, &Route::default()).unwrap();
    let shown = loop {
        let status = client.status().await.unwrap();
        if status.waiting >= JOBS as u64 {
            break killed.elapsed();
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    println!(
        "the whole queue is shown     {:.2} s from the kill",
        shown.as_secs_f64()
    );
    asked("status", &http, &format!("{address}/api/v1/status")).await;
    asked("queue", &http, &format!("{address}/api/v1/queue")).await;
    asked(
        "queue of a team",
        &http,
        &format!("{address}/api/v1/queue?team=firmware"),
    )
    .await;
    asked(
        "queue, one reason",
        &http,
        &format!("{address}/api/v1/queue?reason=no-match"),
    )
    .await;
    asked("metrics", &http, &format!("{address}/metrics")).await;
    let queue = client.queue(&QueueFilter::default()).await.unwrap();
    for group in &queue.groups {
        println!(
            "  {}: {} ({} jobs, {} strands)",
            group.reason, group.cause, group.jobs, group.strand_count
        );
    }
    if std::env::args().any(|argument| argument == "--hold") {
        println!("look at {address} with the token {token}; Enter goes on");
        let _ = std::io::stdin().read_line(&mut String::new());
    }
    let _runner = runner(&client, &address, &stand).await;
    report(
        "ready to started, at rest",
        executed(&client, || false).await,
    );
    cancel_unmatched(&client).await;
}

/// A real runner with a label of its own.
async fn runner(client: &Client, address: &str, stand: &Stand) -> stand::Ended {
    let ticket = client.add_ticket("staithe", &NewTicket::default()).await;
    let runner = Command::new(root().join("target/release/pennine-runner"))
        .args([
            "join", "--server", address, "--name", "ready-01", "--label", "ready", "--work",
        ])
        .args(["--ticket", &ticket.unwrap().secret, "--dir"])
        .arg(stand.data.path().join("runner"))
        .env("PENNINE_RUNNER_LOG", "warn")
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    stand::Ended(runner)
}

/// How long jobs waited from ready to started, one after the other, until there are enough or it is over.
async fn executed(client: &Client, is_over: impl Fn() -> bool) -> Vec<Duration> {
    let new = NewJob {
        project: "firmware/buoy".into(),
        requirement: "ready".into(),
        command: vec!["true".into()],
        band: Band::Urgent,
        ..NewJob::default()
    };
    let mut waits = Vec::new();
    // The first waits for the runner.
    for n in 0..=EXECUTED {
        let name = client.submit(&new, None).await.unwrap().job.name;
        let waited = loop {
            tokio::time::sleep(Duration::from_millis(30)).await;
            let line = client.job(&name).await.unwrap().line;
            if line.result.is_some() {
                break Duration::from(line.wait_us);
            }
        };
        if n > 0 {
            waits.push(waited);
        }
        if is_over() {
            break;
        }
    }
    waits
}

async fn cancel_unmatched(client: &Client) {
    let unmatched = BulkAction {
        action: Action::Cancel,
        reason: Some(Reason::NoMatch),
        cause: None,
        project: None,
        team: None,
        requirement: None,
        jobs: Vec::new(),
        preview: false,
    };
    let begun = Instant::now();
    let result = client.act_on_jobs(&unmatched).await.unwrap();
    println!("cancelling {} jobs", result.found);
    let name = result.background.unwrap();
    let mut is_looked_up = false;
    let is_over = Arc::new(AtomicBool::new(false));
    let beside = tokio::spawn({
        let (client, is_over) = (client.clone(), Arc::clone(&is_over));
        async move { executed(&client, || is_over.load(Ordering::Relaxed)).await }
    });
    loop {
        let progress = client.job_action(&name).await.unwrap();
        if progress.found.is_some() && !is_looked_up {
            is_looked_up = true;
            println!(
                "looked up                    {:.1} s",
                begun.elapsed().as_secs_f64()
            );
        }
        if let Some(ended) = progress.ended_at {
            let took = ended.since(progress.created_at).as_secs_f64();
            println!("cancelled {} jobs in {took:.1} s", progress.changed);
            is_over.store(true, Ordering::Relaxed);
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    report("ready to started, meanwhile", beside.await.unwrap());
}

fn main() {
    stand::run(bench());
}
