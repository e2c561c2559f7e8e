//! How long from a job's submission to its pool's supplier being asked for a machine, and from a single-use machine's job's
//! end to the order of the next.
//!
//! `cargo bench -p pennined --bench capacity`, with a cluster and release programs as for `submit_to_started`. The supplier
//! is the stand-in cloud's protocol, spoken by the bench itself: it notes when it is asked, and its machines are runners of
//! the bench's own that do nothing and take a moment for it.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

#[allow(dead_code)]
mod stand;

use axum::extract::{Path, State};
use axum::routing::{delete, get, post};
use axum::{Json, Router};
use pennine_core::fact::FactValue;
use pennine_suppliers::Order;
use pennine_wire::{NewJob, NewPool, NewSupplier, SupplyChange};
use stand::{report, root, stand};
use std::collections::BTreeMap;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const JOBS: usize = 300;
const REPLACED: usize = 40;

/// What the supplier was asked.
#[derive(Default)]
struct Asked {
    orders: Vec<Instant>,
    /// Machines that were made for real.
    made: BTreeMap<String, Child>,
    for_real: bool,
    folder: std::path::PathBuf,
}

type Shared = Arc<Mutex<Asked>>;

async fn order(State(asked): State<Shared>, Json(order): Json<Order>) -> Json<serde_json::Value> {
    let mut asked = asked.lock().unwrap();
    asked.orders.push(Instant::now());
    if asked.for_real {
        let child = Command::new(root().join("target/release/pennine-runner"))
            .args(order.arguments())
            .arg("--dir")
            .arg(asked.folder.join(&order.name))
            .envs(order.environment())
            .env("PENNINE_TOOL_VERSIONS", asked.folder.join("tools.json"))
            .env("PENNINE_RUNNER_LOG", "error")
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        asked.made.insert(order.machine.to_string(), child);
    }
    Json(serde_json::json!({"reference": order.name}))
}

async fn remove(State(asked): State<Shared>, Path(id): Path<String>) -> Json<serde_json::Value> {
    let made = asked.lock().unwrap().made.remove(&id);
    if let Some(mut child) = made {
        let _ = child.kill();
        let _ = child.wait();
    }
    Json(serde_json::json!({}))
}

/// It never says what it has: nothing is compared while it is measured.
async fn list() -> axum::http::StatusCode {
    tokio::time::sleep(Duration::from_secs(600)).await;
    axum::http::StatusCode::OK
}

async fn offer() -> Json<serde_json::Value> {
    Json(serde_json::json!({"quota": 10_000, "boot_limit_us": 3_600_000_000_u64}))
}

fn main() {
    stand::run(measure());
}

/// Reports how fast single-use machines are replaced.
async fn report_replacements(database: &tokio_postgres::Client) {
    // From a job's end to the next order of the pool, and from the supplier's answer to the job's start.
    let rows = database
        .query(
            "select extract(epoch from (select min(m.ordered_at) from machine m join pool p on p.id = m.pool_id
                                        where p.name = 'cradle' and m.ordered_at > a.finished_at) - a.finished_at)::float8,
                    extract(epoch from a.started_at - m.accepted_at)::float8
             from attempt a join machine m on m.runner_id = a.runner_id
             where a.finished_at is not null and m.accepted_at is not null order by a.id limit $1",
            &[&(REPLACED as i64)],
        )
        .await
        .unwrap();
    let column = |i: usize| -> Vec<Duration> {
        rows.iter()
            .filter_map(|row| row.get::<_, Option<f64>>(i))
            .map(|seconds| Duration::from_secs_f64(seconds.max(0.0)))
            .collect()
    };
    println!("{} single-use machines, two at a time", rows.len());
    report("job's end to next order", column(0));
    report("accepted to job started", column(1));
}

async fn measure() {
    let stand = stand().await;
    let asked = Shared::default();
    asked.lock().unwrap().folder = stand.data.path().join("made");
    let router = Router::new()
        .route("/machines", post(order).get(list))
        .route("/machines/{machine}", delete(remove))
        .route("/offer", get(offer))
        .with_state(asked.clone());
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0))
        .await
        .unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, router).await });
    let client = &stand.client;
    let supplier = NewSupplier {
        name: "chandler".into(),
        kind: "standin-cloud".into(),
        settings: BTreeMap::from([("url".to_owned(), url)]),
        ..NewSupplier::default()
    };
    client.add_supplier(&supplier).await.unwrap();
    let pool = |name: &str, ceiling: u32, single_use: bool| NewPool {
        name: name.into(),
        labels: vec![name.into()],
        supply: Some(SupplyChange {
            supplier: Some("chandler".into()),
            ceiling: Some(ceiling),
            single_use: Some(single_use),
            facts: Some([("os".to_owned(), FactValue::Text("linux".into()))].into()),
            ..SupplyChange::default()
        }),
        ..NewPool::default()
    };
    let job = |requirement: &str| NewJob {
        project: "buoy".into(),
        requirement: requirement.into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };

    client
        .add_pool(&pool("slipway", 10_000, false))
        .await
        .unwrap();
    let mut latencies = Vec::new();
    for n in 0..JOBS {
        let begun = Instant::now();
        client.submit(&job("slipway"), None).await.unwrap();
        let at = loop {
            if let Some(at) = asked.lock().unwrap().orders.get(n) {
                break *at;
            }
            tokio::time::sleep(Duration::from_micros(500)).await;
        };
        latencies.push(at.saturating_duration_since(begun));
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    println!("{JOBS} jobs, one machine ordered for each");
    report("submitted to asked", latencies);

    // Single use: each job's end orders the next machine, for the job that waits behind it.
    asked.lock().unwrap().for_real = true;
    client.add_pool(&pool("cradle", 2, true)).await.unwrap();
    for _ in 0..REPLACED + 3 {
        client.submit(&job("cradle"), None).await.unwrap();
    }
    let (database, connection) = tokio_postgres::connect(&stand.database, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    let query =
        "select count(*) from job j where j.requirement = 'cradle' and j.result is not null";
    let begun = Instant::now();
    loop {
        let done: i64 = database.query_one(query, &[]).await.unwrap().get(0);
        if done as usize >= REPLACED || begun.elapsed() > Duration::from_secs(120) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    report_replacements(&database).await;
    let left = std::mem::take(&mut asked.lock().unwrap().made);
    for (_, mut child) in left {
        let _ = child.kill();
        let _ = child.wait();
    }
}
