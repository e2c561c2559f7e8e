//! One replica leads; another takes over; what a deposed leader decides is refused.

use crate::support::{Runner, Service, ServiceProcess, free_port, token_in, until};
use pennine_client::{Client, Route};
use pennine_core::dispatch::Assignment;
use pennine_core::id::{AttemptId, LeaseToken, ReplicaId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_store::attempt::{Committed, assign};
use pennine_store::leadership;
use pennine_store::{Store, strand};
use std::time::Instant;
use uuid::Uuid;

async fn leader(store: &Store) -> leadership::Leader {
    let mut connection = store.get().await.unwrap();
    leadership::current(&mut connection).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lead_is_taken_once_kept_by_renewing_and_handed_on_when_it_is_given_up() {
    let database = crate::support::Database::fresh().await;
    let store = Store::open(&database.url, 2).unwrap();
    let mut connection = store.get().await.unwrap();
    let (one, two) = (ReplicaId(Uuid::new_v4()), ReplicaId(Uuid::new_v4()));
    let first = leadership::acquire(&mut connection, one, "one")
        .await
        .unwrap()
        .expect("nobody leads");
    assert_eq!(
        leadership::acquire(&mut connection, two, "two")
            .await
            .unwrap(),
        None
    );
    assert!(
        leadership::renew(&mut connection, one, first)
            .await
            .unwrap()
    );
    assert!(
        !leadership::renew(&mut connection, two, first)
            .await
            .unwrap()
    );
    leadership::release(&mut connection, one, first)
        .await
        .unwrap();
    let second = leadership::acquire(&mut connection, two, "two")
        .await
        .unwrap()
        .expect("it was given up");
    assert!(second > first);
    assert!(
        !leadership::renew(&mut connection, one, first)
            .await
            .unwrap(),
        "the first is deposed"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_refuses_what_a_deposed_leader_decides() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "quay", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let name = service.submit("nowhere", "true").await;
    let job = service.client.job(&name).await.unwrap();
    let runner = service.client.runner("fell-01").await.unwrap();
    let pool = service.client.pool("quay").await.unwrap();
    let store = Store::open(&service.database.url, 4).unwrap();
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
    assert_eq!(
        assign(&mut connection, old, now, &batch).await.unwrap(),
        Committed::Deposed
    );
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
    let Committed::Kept(kept) = assign(&mut connection, epoch, now, &batch).await.unwrap() else {
        panic!("the epoch is the right one")
    };
    assert_eq!(kept.len(), 1, "a job has one attempt at a time");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn another_replica_takes_over_from_one_that_is_killed_and_work_goes_on() {
    let mut service = Service::start().await;
    service.furnish().await;
    let store = Store::open(&service.database.url, 2).unwrap();
    let other = service.another().await;
    let first = leader(&store).await;
    assert_eq!(first.address, service.url);
    let _runner = Runner::working_through(&service, &other.url, "quay", "fell-01", 1).await;
    let client = Client::new(&other.url, &service.token, &Route::default()).unwrap();
    until("the runner is there at the other replica", || async {
        let runner = client.runner("fell-01").await.ok()?;
        (runner.state == RunnerState::Available).then_some(())
    })
    .await;
    service.take_replica().drop_dead();
    let killed = Instant::now();
    let command = vec!["true".to_owned()];
    let new = pennine_wire::NewJob {
        project: "buoy".into(),
        command,
        ..Default::default()
    };
    let name = client.submit(&new, None).await.unwrap().job.name;
    let job = until("the job is done", || async {
        client
            .job(&name)
            .await
            .ok()
            .filter(|job| job.line.result.is_some())
    })
    .await;
    eprintln!("killed to done: {:?}", killed.elapsed());
    assert_eq!(job.line.result, Some(Outcome::Success));
    let second = leader(&store).await;
    assert_eq!(second.address, other.url);
    assert!(second.epoch > first.epoch);
    other.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_leader_that_is_stopped_and_goes_on_finds_itself_deposed() {
    let database = crate::support::Database::fresh().await;
    let data = tempfile::tempdir().unwrap();
    let process = ServiceProcess::start(&database.url, data.path(), free_port()).await;
    let store = Store::open(&database.url, 2).unwrap();
    let first = leader(&store).await;
    assert_eq!(first.address, process.url);
    process.signal("STOP");
    let second = ServiceProcess::start(&database.url, data.path(), free_port()).await;
    let now = leader(&store).await;
    assert_eq!(now.address, second.url);
    process.signal("CONT");
    let client = Client::new(&process.url, &token_in(data.path()), &Route::default()).unwrap();
    until("the first serves on", || async {
        client.status().await.ok()
    })
    .await;
    let last = leader(&store).await;
    assert_eq!(
        (last.address, last.epoch),
        (second.url.clone(), now.epoch),
        "the second still leads"
    );
}
