//! What the benches stand on: the release service on a database of its own in the bench cluster, with a team, a project
//! and a pool.

use pennine_client::{Client, Route};
use pennine_wire::{NewPool, NewProject, NewTeam};
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use std::time::Duration;
use tempfile::TempDir;
use tokio_postgres::NoTls;

/// A process that ends with the bench.
pub struct Ended(pub Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The workspace.
pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../..")
        .canonicalize()
        .unwrap()
}

/// The value below which this share of the sorted values lies, by nearest rank.
pub fn percentile(sorted: &[Duration], share: f64) -> Duration {
    let rank = (share * sorted.len() as f64).ceil() as usize;
    sorted[rank.clamp(1, sorted.len()) - 1]
}

/// Prints and returns the middle and the 99th percentile.
pub fn report(name: &str, mut values: Vec<Duration>) -> (Duration, Duration) {
    values.sort();
    let (p50, p99) = (percentile(&values, 0.5), percentile(&values, 0.99));
    println!(
        "{name:28} p50 {:>8.3} ms   p99 {:>8.3} ms",
        p50.as_secs_f64() * 1e3,
        p99.as_secs_f64() * 1e3
    );
    (p50, p99)
}

/// Runs a bench to its end, on two threads.
pub fn run(bench: impl Future<Output = ()>) {
    // cargo test runs benches too, with --test: there is nothing to measure then.
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .unwrap();
    runtime.block_on(bench);
}

/// The service, as it is measured.
pub struct Stand {
    pub client: Client,
    pub address: String,
    /// The cluster's address, with a database that is not the service's.
    pub cluster: String,
    /// The service's database.
    pub database: String,
    pub data: TempDir,
    service: Option<Ended>,
}

impl Stand {
    /// Kills the service; another replica may go on.
    pub fn end_service(&mut self) {
        self.service = None;
    }
}

/// Makes an empty database in the bench cluster. Returns the cluster's address and the database's.
pub async fn fresh_database() -> (String, String) {
    let cluster = std::fs::read_to_string(root().join("target/bench-postgres/url"))
        .expect("no cluster: scripts/cluster up target/bench-postgres");
    let cluster = cluster.trim().to_owned();
    let (admin, connection) = tokio_postgres::connect(&cluster, NoTls).await.unwrap();
    tokio::spawn(connection);
    admin
        .batch_execute("drop database if exists bench with (force)")
        .await
        .unwrap();
    admin.batch_execute("create database bench").await.unwrap();
    let url = format!("{}/bench", cluster.rsplit_once('/').unwrap().0);
    (cluster, url)
}

/// Starts it. Build the programs first: `cargo build --release`.
pub async fn stand() -> Stand {
    let (cluster, url) = fresh_database().await;
    let data = tempfile::tempdir().unwrap();
    let port = std::net::TcpListener::bind(("127.0.0.1", 0))
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let programs = root().join("target/release");
    let service = Command::new(programs.join("pennined"))
        .arg("serve")
        .env("PENNINED_OUTGOING__ALLOW", r#"["127.0.0.0/8"]"#)
        .env("PENNINED_DATABASE_URL", &url)
        .env("PENNINED_DATA_DIR", data.path())
        .env("PENNINED_LISTEN", format!("127.0.0.1:{port}"))
        .env("PENNINED_LOG__LEVEL", "error")
        .spawn()
        .expect("build the programs first: cargo build --release");
    let service = Some(Ended(service));
    let address = format!("http://127.0.0.1:{port}");
    pennine_client::choose_cryptography();
    let http = reqwest::Client::new();
    while !http
        .get(format!("{address}/readyz"))
        .send()
        .await
        .is_ok_and(|answer| answer.status().is_success())
    {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let token = std::fs::read_to_string(data.path().join("admin.token")).unwrap();
    let client = Client::new(&address, &token, &Route::default()).unwrap();
    client
        .add_team(&NewTeam {
            name: "firmware".into(),
            parent: None,
        })
        .await
        .unwrap();
    client
        .add_project(&NewProject {
            name: "buoy".into(),
            team: "firmware".into(),
        })
        .await
        .unwrap();
    let pool = NewPool {
        name: "staithe".into(),
        description: String::new(),
        labels: vec![],
        open: Some(true),
        owner: None,
        ..NewPool::default()
    };
    client.add_pool(&pool).await.unwrap();
    Stand {
        client,
        address,
        cluster,
        database: url,
        data,
        service,
    }
}
