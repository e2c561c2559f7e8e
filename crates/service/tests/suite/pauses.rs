//! Pauses and jumps of clocks lose nothing: a service that could not receive reports for a while does not conclude that its
//! runners are gone.

use crate::faults::{Installation, furnish, join, submit, when};
use crate::support::{Cutter, Database, Runner, Service, shared, token_in, until};
use pennine_client::{Client, Route};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, leadership};
use pennine_wire::Job;
use std::path::Path;
use std::time::Duration;

fn waiting_for(go: &Path) -> String {
    format!("while [ ! -e {} ]; do sleep 0.1; done", go.display())
}

fn executes(job: &Job) -> bool {
    job.line.started_at.is_some()
}

/// Lets a job go on that was executing all the time, and checks that nothing of it was lost.
async fn goes_on_to_its_end(client: &Client, name: &str, go: &Path) {
    std::fs::write(go, "").unwrap();
    let job = when(client, name, |job| job.line.result.is_some()).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    assert_eq!(job.attempts.len(), 1, "{:?}", job.attempts);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_only_replica_that_is_stopped_for_a_minute_loses_no_attempt() {
    let (installation, service) = Installation::furnished().await;
    let client = &installation.client;
    let home = tempfile::tempdir().unwrap();
    let go = shared(home.path()).join("go");
    let mut runner = join(client, &service.url, home.path()).await;
    let name = submit(client, &waiting_for(&go)).await;
    when(client, &name, executes).await;
    service.signal("STOP");
    // The length of the pause is what is tested.
    tokio::time::sleep(Duration::from_secs(60)).await;
    service.signal("CONT");
    // What was due long ago has been looked at by the time that another job has run.
    until("dispatch goes on", || async { client.status().await.ok() }).await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    goes_on_to_its_end(client, &name, &go).await;
    let next = submit(client, "true").await;
    when(client, &next, |job| {
        job.line.result == Some(Outcome::Success)
    })
    .await;
    runner.kill().unwrap();
    runner.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_answers_late_loses_no_attempt() {
    let database = Database::fresh().await;
    let (before, rest) = database.url.rsplit_once('@').unwrap();
    let (host, name) = rest.split_once('/').unwrap();
    let cutter = Cutter::to(host.parse().unwrap()).await;
    let through = cutter.url.trim_start_matches("http://");
    let data = tempfile::tempdir().unwrap();
    let port = crate::support::free_port();
    let url = format!("{before}@{through}/{name}");
    let service = crate::support::ServiceProcess::start(&url, data.path(), port).await;
    let client = Client::new(&service.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    let home = tempfile::tempdir().unwrap();
    let go = shared(home.path()).join("go");
    let mut runner = join(&client, &service.url, home.path()).await;
    let name = submit(&client, &waiting_for(&go)).await;
    when(&client, &name, executes).await;
    cutter.hold(true);
    // Longer than a lease.
    tokio::time::sleep(Duration::from_secs(35)).await;
    cutter.hold(false);
    until("the database answers", || async {
        client.status().await.ok()
    })
    .await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    goes_on_to_its_end(&client, &name, &go).await;
    runner.kill().unwrap();
    runner.wait().unwrap();
}

/// The clock of a database, which a test moves.
struct MovedClock {
    /// The database's address.
    url: String,
}

impl MovedClock {
    async fn of(database: &Database) -> MovedClock {
        let url = database.url.clone();
        let name = url.rsplit('/').next().unwrap().to_owned();
        let moved = MovedClock { url };
        moved
            .execute(
                "create schema moved; create table moved.clock (by interval not null);
                 insert into moved.clock values ('0');
                 create function moved.clock_timestamp() returns timestamptz language sql volatile
                   as 'select pg_catalog.clock_timestamp() + (select by from moved.clock)';
                 grant usage on schema moved to public;
                 grant select on moved.clock to public",
            )
            .await;
        // Found before PostgreSQL's own, which is last only where it is named.
        moved
            .execute(&format!(
                "alter database \"{name}\" set search_path = public, moved, pg_catalog"
            ))
            .await;
        moved
    }

    async fn execute(&self, statements: &str) {
        let (client, connection) = tokio_postgres::connect(&self.url, tokio_postgres::NoTls)
            .await
            .unwrap();
        let driver = tokio::spawn(connection);
        client.batch_execute(statements).await.unwrap();
        driver.abort();
    }

    async fn by(&self, interval: &str) {
        self.execute(&format!("update moved.clock set by = '{interval}'"))
            .await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_clock_that_jumps_an_hour_forward_and_back_loses_no_attempt() {
    let database = Database::fresh().await;
    let moved = MovedClock::of(&database).await;
    let service = Service::in_database(database, |_| {}).await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let go = service.shared("go");
    let name = service.submit("", &waiting_for(&go)).await;
    service.job_when(&name, "executing", executes).await;
    let before = service.client.job(&name).await.unwrap().now;
    moved.by("1 hour").await;
    let hour = Duration::from_secs(3500);
    until("the service's clock follows", || async {
        let now = service.client.job(&name).await.unwrap().now;
        (now.since(before) > hour).then_some(())
    })
    .await;
    moved.by("-1 hour").await;
    // The leases are looked at several times by both clocks.
    for _ in 0..2 {
        let next = service.submit("nowhere", "true").await;
        service
            .why_when(&next, pennine_core::dispatch::Reason::NoMatch)
            .await;
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
    goes_on_to_its_end(&service.client, &name, &go).await;
    service.runner_when("fell-01", RunnerState::Available).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lead_from_before_the_databases_clock_was_set_back_keeps_nobody_from_leading() {
    let database = Database::fresh().await;
    let moved = MovedClock::of(&database).await;
    let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let id = || pennine_core::id::ReplicaId(uuid::Uuid::now_v7());
    let first = leadership::acquire(&mut connection, id(), "here")
        .await
        .unwrap();
    assert!(first.is_some());
    let second = leadership::acquire(&mut connection, id(), "there")
        .await
        .unwrap();
    assert_eq!(second, None, "it is led");
    moved.by("-1 hour").await;
    assert!(!leadership::current(&mut connection).await.unwrap().live);
    let second = leadership::acquire(&mut connection, id(), "there")
        .await
        .unwrap();
    assert!(second > first);
}
