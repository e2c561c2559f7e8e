//! One replica leads; another takes over; what a deposed leader decides is refused.

use crate::faults::{furnish, join, submit, when};
use crate::support::{Cutter, Runner, Service, ServiceProcess, free_port, token_in, until};
use pennine_client::{Client, Route};
use pennine_core::dispatch::Assignment;
use pennine_core::id::{AttemptId, JobId, LeaseToken};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_store::attempt::{CommitResult, assign};
use pennine_store::connect::PoolSizes;
use pennine_store::leadership;
use pennine_store::{Store, strand};
use std::time::{Duration, Instant};
use uuid::Uuid;

async fn leader(store: &Store) -> leadership::Leader {
    let mut connection = store.people().await.unwrap();
    leadership::current(&mut connection).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_refuses_the_batch_of_a_deposed_leader() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let name = service.submit("nowhere", "true").await;
    let job = service.client.job(&name).await.unwrap();
    let runner = service.client.runner("fell-01").await.unwrap();
    let pool = service.client.pool("staithe").await.unwrap();
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let old = leadership::Epoch(leader(&store).await.epoch - 1);
    let mut connection = store.leader().await.unwrap();
    let assignment = Assignment {
        attempt: AttemptId(Uuid::now_v7()),
        job: job.line.id,
        runner: runner.id,
        pool: pool.id,
        strand: pennine_core::id::StrandId(Uuid::nil()),
    };
    let batch = [(assignment, LeaseToken(Uuid::new_v4()))];
    let now = service.clock.now();
    let refused = assign(&mut connection, old, now, &batch).await.unwrap();
    assert!(matches!(refused, CommitResult::Deposed), "{refused:?}");
    let reasons = [(assignment.strand, Vec::new())];
    assert!(
        !strand::record(&mut connection, old, now, &reasons)
            .await
            .unwrap()
    );
    assert!(
        service.client.job(&name).await.unwrap().attempts.is_empty(),
        "nothing was changed"
    );
    // Under the right epoch a batch is kept, except for what has changed underneath.
    let epoch = leadership::Epoch(leader(&store).await.epoch);
    let stale = Assignment {
        attempt: AttemptId(Uuid::now_v7()),
        ..assignment
    };
    let batch = [batch[0], (stale, LeaseToken(Uuid::new_v4()))];
    let CommitResult::Kept(kept) = assign(&mut connection, epoch, now, &batch).await.unwrap()
    else {
        panic!("the epoch is the right one")
    };
    assert_eq!(kept.len(), 1, "a job has one attempt at a time");
}

/// Two replicas as processes on one installation; the first leads.
struct Pair {
    first: ServiceProcess,
    second: ServiceProcess,
    store: Store,
    client: Client,
    data: tempfile::TempDir,
    _database: crate::support::Database,
}

impl Pair {
    async fn start() -> Pair {
        let database = crate::support::Database::fresh().await;
        let data = tempfile::tempdir().unwrap();
        let first = ServiceProcess::start(&database.url, data.path(), free_port()).await;
        let second = ServiceProcess::start(&database.url, data.path(), free_port()).await;
        let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
        assert_eq!(leader(&store).await.address, first.url);
        let client = Client::new(&second.url, &token_in(data.path()), &Route::default()).unwrap();
        Pair {
            first,
            second,
            store,
            client,
            data,
            _database: database,
        }
    }

    /// Waits until the second replica leads, and returns how long that took.
    async fn taken_over(&self) -> Duration {
        let begun = Instant::now();
        until("the second replica leads", || async {
            let now = leader(&self.store).await;
            (now.live && now.address == self.second.url).then_some(())
        })
        .await;
        begun.elapsed()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn another_replica_takes_over_from_one_that_is_killed_and_work_goes_on() {
    let mut pair = Pair::start().await;
    furnish(&pair.client).await;
    let home = tempfile::tempdir().unwrap();
    let mut runner = join(&pair.client, &pair.second.url, home.path()).await;
    let name = submit(&pair.client, "echo before").await;
    when(&pair.client, &name, |job| job.line.result.is_some()).await;
    let epoch = leader(&pair.store).await.epoch;
    pair.first.kill();
    let name = submit(&pair.client, "echo after").await;
    eprintln!(
        "the lead was taken over after {:?}",
        pair.taken_over().await
    );
    let job = when(&pair.client, &name, |job| job.line.result.is_some()).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
    assert!(leader(&pair.store).await.epoch > epoch);
    runner.kill().unwrap();
    runner.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_leader_that_is_stopped_and_goes_on_finds_itself_deposed() {
    let pair = Pair::start().await;
    pair.first.signal("STOP");
    pair.taken_over().await;
    let epoch = leader(&pair.store).await.epoch;
    pair.first.signal("CONT");
    let first = Client::new(
        &pair.first.url,
        &token_in(pair.data.path()),
        &Route::default(),
    )
    .unwrap();
    until("the first serves on", || async {
        first.status().await.ok()
    })
    .await;
    // It follows the second now: what is submitted there is dispatched by the other.
    furnish(&first).await;
    let home = tempfile::tempdir().unwrap();
    let mut runner = join(&first, &pair.first.url, home.path()).await;
    let name = submit(&first, "true").await;
    when(&first, &name, |job| {
        job.line.result == Some(Outcome::Success)
    })
    .await;
    let now = leader(&pair.store).await;
    assert_eq!((now.address, now.epoch), (pair.second.url.clone(), epoch));
    runner.kill().unwrap();
    runner.wait().unwrap();
}

/// Three replicas as processes on one installation, and a client that knows all of them.
struct Trio {
    replicas: Vec<ServiceProcess>,
    /// Between the first replica and the database.
    between: Cutter,
    store: Store,
    client: Client,
    addresses: String,
    data: tempfile::TempDir,
    _database: crate::support::Database,
}

impl Trio {
    async fn start() -> Trio {
        let database = crate::support::Database::fresh().await;
        let data = tempfile::tempdir().unwrap();
        let direct = reqwest::Url::parse(&database.url).unwrap();
        let address = format!(
            "{}:{}",
            direct.host_str().unwrap(),
            direct.port().unwrap_or(5432)
        );
        let between = Cutter::to(address.parse().unwrap()).await;
        let mut through = direct.clone();
        let port = reqwest::Url::parse(&between.url).unwrap().port();
        through.set_port(port).unwrap();
        let mut replicas = Vec::new();
        for url in [through.as_str(), &database.url, &database.url] {
            replicas.push(ServiceProcess::start(url, data.path(), free_port()).await);
        }
        let urls: Vec<&str> = replicas.iter().map(|one| one.url.as_str()).collect();
        let addresses = urls.join(",");
        let client = Client::new(&addresses, &token_in(data.path()), &Route::default()).unwrap();
        let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
        assert_eq!(leader(&store).await.address, replicas[0].url);
        Trio {
            replicas,
            between,
            store,
            client,
            addresses,
            data,
            _database: database,
        }
    }

    /// Waits until another than this replica leads, and says how long that took.
    async fn taken_over_from(&self, replica: usize, how: &str) -> usize {
        let begun = Instant::now();
        let found = until("another replica leads", || async {
            let now = leader(&self.store).await;
            let at = self
                .replicas
                .iter()
                .position(|one| one.url == now.address)?;
            (now.live && at != replica).then_some(at)
        })
        .await;
        eprintln!(
            "after {how} the lead was taken over in {:?}",
            begun.elapsed()
        );
        found
    }

    /// Runs a job that succeeds, and returns its id.
    async fn runs(&self, script: &str) -> JobId {
        // What was under way at a replica that is gone may have to be asked again.
        let name = until("a job is taken", || async {
            let new = pennine_wire::NewJob {
                project: "buoy".into(),
                command: ["sh", "-c", script].map(str::to_owned).to_vec(),
                ..Default::default()
            };
            let taken = self.client.submit(&new, None).await;
            taken.ok().map(|taken| taken.job.name)
        })
        .await;
        until("it succeeds", || async {
            let job = self.client.job(&name).await.ok()?;
            (job.line.result == Some(Outcome::Success)).then_some(job.line.id)
        })
        .await
    }

    /// Follows the live changes at every replica.
    async fn streams(&self) -> Vec<reqwest::Response> {
        let mut streams = Vec::new();
        for replica in &self.replicas {
            let answer = reqwest::Client::new()
                .get(format!("{}/api/v1/events", replica.url))
                .bearer_auth(token_in(self.data.path()))
                .send();
            streams.push(answer.await.unwrap().error_for_status().unwrap());
        }
        streams
    }
}

/// Waits until a stream of changes tells of this job's end.
async fn hears_of(stream: &mut reqwest::Response, job: JobId) {
    let (mut heard, wanted) = (String::new(), job.0.to_string());
    let told = |heard: &str| {
        let mut events = heard.split("\n\n");
        events.any(|event| event.contains("job.done") && event.contains(&wanted))
    };
    while !told(&heard) {
        let bytes = tokio::time::timeout(Duration::from_secs(60), stream.chunk());
        let bytes = bytes.await.expect("the stream tells of it within a minute");
        let bytes = bytes.unwrap().expect("the stream goes on");
        heard += &String::from_utf8_lossy(&bytes);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn three_replicas_outlive_a_cut_to_the_database_and_a_kill_and_clients_go_on() {
    let mut trio = Trio::start().await;
    furnish(&trio.client).await;
    let home = tempfile::tempdir().unwrap();
    // The runner knows every address too, and polls the first as long as it is there.
    let mut runner = join(&trio.client, &trio.addresses, home.path()).await;
    // A reader of the change feed receives every change, at any replica.
    let mut streams = trio.streams().await;
    let job = trio.runs("echo before").await;
    for stream in &mut streams {
        hears_of(stream, job).await;
    }
    drop(streams);
    let epoch = leader(&trio.store).await.epoch;
    // Cut off from the database, the leader may neither lead nor decide.
    trio.between.sever(true);
    trio.between.cut();
    let second = trio.taken_over_from(0, "a cut to the database").await;
    assert!(leader(&trio.store).await.epoch > epoch);
    trio.between.sever(false);
    trio.runs("echo with the first behind").await;
    trio.replicas[second].kill();
    let third = trio.taken_over_from(second, "kill -9").await;
    trio.runs("echo with two left").await;
    // The first two are gone: the runner and the client find the last by themselves.
    trio.replicas[third].kill();
    trio.taken_over_from(third, "the second kill -9").await;
    trio.runs("echo with one left").await;
    runner.kill().unwrap();
    runner.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_leader_that_meets_a_change_it_does_not_know_gives_up_the_lead_and_says_which() {
    let service = Service::start().await;
    service.furnish().await;
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let before = leader(&store).await;
    let newer = service.database.connect().await;
    newer
        .execute(
            "insert into outbox (at, kind, subject, body)
             values (clock_timestamp(), 'job.teleported', gen_random_uuid(), '{}')",
            &[],
        )
        .await
        .unwrap();
    // Another replica may lead; here the same one does so again, under another epoch, from the record.
    until("the lead is given up and taken again", || async {
        let now = leader(&store).await;
        (now.live && now.epoch > before.epoch).then_some(())
    })
    .await;
    let ready = reqwest::get(format!("{}/readyz", service.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert!(ready.contains("cannot read: 1"), "{ready}");
    assert!(ready.contains("unknown kind job.teleported"), "{ready}");
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let job = service.submit("", "true").await;
    assert_eq!(
        service.done(&job).await.line.result,
        Some(Outcome::Success),
        "dispatch goes on"
    );
}
