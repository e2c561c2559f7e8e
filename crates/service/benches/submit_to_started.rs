//! How long from submitting a job to its command running (exec has returned), and how much of that is bare floor.
//!
//! `cargo bench -p pennined --bench submit_to_started`. It needs a PostgreSQL cluster: `scripts/cluster up
//! target/bench-postgres` makes one with the usual durability, and the bench finds it there. The runner and the service
//! are the release programs; one runner, warm, one job at a time, so that each job's own path is measured.
//!
//! Legs: *taken* is submit sent to answer received, by the submitter's clock; *matched* is ready to assigned, and
//! *begun* assigned to started, by the service's clock (the runner reports how long ago exec returned). *whole* is
//! ready to started. Then the same while another session holds a write transaction open from before the first job to the last:
//! in another database of the cluster, then in the service's own. The floor, measured in the same run, does the minimum: three durable commits on the
//! same database (job, assignment, start), three loopback round trips, and a fork and exec of `true`.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

#[allow(dead_code)]
mod stand;

use pennine_client::Client;
use pennine_wire::{NewJob, NewTicket};
use stand::{Ended, report, root, stand};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_postgres::NoTls;

const JOBS: usize = 1000;
/// Jobs beside a transaction that another session holds open.
const JOBS_BESIDE: usize = 800;
const WARM_UP: usize = 50;
/// How long nothing is asked of the service after a submission.
const QUIET: Duration = Duration::from_millis(30);

/// One pass over the floor: commits, hops and an exec, one after the other.
async fn floor(database: &tokio_postgres::Client, echo: &mut TcpStream) -> Duration {
    let begun = Instant::now();
    let mut byte = [0u8; 1];
    for _ in 0..3 {
        echo.write_all(b"x").await.unwrap();
        echo.read_exact(&mut byte).await.unwrap();
        database
            .execute(
                "insert into bench_floor (at) values (clock_timestamp())",
                &[],
            )
            .await
            .unwrap();
    }
    let mut child = Command::new("true")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let spent = begun.elapsed();
    child.wait().unwrap();
    spent
}

fn main() {
    stand::run(measure());
}

async fn measure() {
    let stand = stand().await;
    let (client, address, url, data) =
        (&stand.client, &stand.address, &stand.database, &stand.data);
    let programs = root().join("target/release");
    let ticket = client
        .add_ticket("staithe", &NewTicket::default())
        .await
        .unwrap()
        .secret;
    let home = data.path().join("runner");
    let mut runner = Command::new(programs.join("pennine-runner"));
    runner
        .args([
            "join", "--server", address, "--ticket", &ticket, "--name", "fell-01", "--work",
            "--dir",
        ])
        .arg(&home);
    let runner = runner
        .env("PENNINE_RUNNER_LOG", "warn")
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let _runner = Ended(runner);

    let (database, connection) = tokio_postgres::connect(url, NoTls).await.unwrap();
    tokio::spawn(connection);
    database
        .batch_execute("create table bench_floor (id bigserial primary key, at timestamptz)")
        .await
        .unwrap();
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0))
        .await
        .unwrap();
    let mut echo = TcpStream::connect(listener.local_addr().unwrap())
        .await
        .unwrap();
    echo.set_nodelay(true).unwrap();
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        stream.set_nodelay(true).unwrap();
        let mut byte = [0u8; 1];
        while stream.read_exact(&mut byte).await.is_ok() {
            stream.write_all(&byte).await.unwrap();
        }
    });

    println!("{JOBS} jobs, one at a time, on one warm runner");
    jobs_one_by_one(client, &database, &mut echo, JOBS).await;

    for (place, address) in [
        ("another database of the cluster", &stand.cluster),
        ("the service's own database", url),
    ] {
        let (other, connection) = tokio_postgres::connect(address, NoTls).await.unwrap();
        tokio::spawn(connection);
        let begun = Instant::now();
        let held = "begin; create table bench_held (n int); insert into bench_held values (1)";
        other.batch_execute(held).await.unwrap();
        println!(
            "{JOBS_BESIDE} jobs while another session holds a write transaction open in {place}"
        );
        jobs_one_by_one(client, &database, &mut echo, JOBS_BESIDE).await;
        println!("it was open for {:.0} s", begun.elapsed().as_secs_f64());
        other.batch_execute("rollback").await.unwrap();
    }
}

/// Submits jobs one at a time, after some that are not counted, with the floor between them, and prints the legs.
async fn jobs_one_by_one(
    client: &Client,
    database: &tokio_postgres::Client,
    echo: &mut TcpStream,
    jobs: usize,
) {
    let new = NewJob {
        project: "buoy".into(),
        requirement: "linux".into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };
    let before: i64 = database
        .query_one("select count(*) from job", &[])
        .await
        .unwrap()
        .get(0);
    let (mut taken, mut floors) = (Vec::new(), Vec::new());
    for n in 0..WARM_UP + jobs {
        let begun = Instant::now();
        let job = client.submit(&new, None).await.unwrap().job;
        let spent = begun.elapsed();
        // The next job waits until this one is over, so that the slot is always free. Nothing is asked meanwhile:
        // what is measured is the job's own path.
        tokio::time::sleep(QUIET).await;
        while client.job(&job.name).await.unwrap().line.result.is_none() {
            tokio::time::sleep(QUIET).await;
        }
        tokio::time::sleep(QUIET).await;
        let bare = floor(database, echo).await;
        if n >= WARM_UP {
            taken.push(spent);
            floors.push(bare);
        }
    }
    let rows = database
        .query(
            "select extract(epoch from a.assigned_at - a.ready_at)::float8, extract(epoch from a.started_at - a.assigned_at)::float8
             from attempt a join job j on j.id = a.job_id where a.accepted order by j.number offset $1",
            &[&(before + WARM_UP as i64)],
        )
        .await
        .unwrap();
    let column = |i: usize| -> Vec<Duration> {
        rows.iter()
            .map(|row| Duration::from_secs_f64(row.get::<_, f64>(i).max(0.0)))
            .collect()
    };
    let (matched, begun) = (column(0), column(1));
    let whole: Vec<Duration> = matched.iter().zip(&begun).map(|(a, b)| *a + *b).collect();
    report("taken (submit answered)", taken);
    report("matched (ready, assigned)", matched);
    report("begun (assigned, started)", begun);
    let (p50, p99) = report("whole (ready, started)", whole);
    let (floor50, floor99) = report("floor", floors);
    println!(
        "whole / floor                p50 {:>8.2}      p99 {:>8.2}",
        p50.as_secs_f64() / floor50.as_secs_f64(),
        p99.as_secs_f64() / floor99.as_secs_f64()
    );
}
