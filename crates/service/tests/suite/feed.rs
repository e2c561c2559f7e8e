//! The change feed: nothing is skipped, whatever the order of commits.

use crate::support::{Database, Runner, Service};
use pennine_core::id::JobId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Moment;
use pennine_store::change::{Change, Undecodable};
use pennine_store::connect::PoolSizes;
use pennine_store::outbox::Position;
use pennine_store::{PooledConnection, Store, outbox, partition};
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, BufReader};
use uuid::Uuid;

const INSERT: &str =
    "insert into outbox (at, kind, subject, body) values ($1, $2, gen_random_uuid(), '{}')";

fn done(job: Uuid) -> Change {
    Change::JobDone {
        job: JobId(job),
        result: Outcome::Success,
    }
}

/// A live reader of a database, turn by turn.
struct LiveReader {
    connection: PooledConnection,
    position: Position,
    begun: Instant,
}

impl LiveReader {
    async fn of(store: &Store) -> LiveReader {
        let mut connection = store.people().await.unwrap();
        let position = outbox::beginning(&mut connection, Duration::ZERO).await;
        LiveReader {
            connection,
            position: position.unwrap(),
            begun: Instant::now(),
        }
    }

    /// The kinds of what is new; none of them is known.
    async fn turn(&mut self) -> Vec<String> {
        let found = outbox::read_live(&mut self.connection, &self.position, 100).await;
        let found = found.unwrap();
        let ids: Vec<i64> = found.iter().map(|entry| entry.cursor.0).collect();
        self.position.take(&ids, true, self.begun.elapsed());
        if self.position.needs_locks(self.begun.elapsed()) {
            let writers = outbox::writers(&mut self.connection).await.unwrap();
            self.position.see_locks(&writers, self.begun.elapsed());
        }
        let kinds = found.into_iter().map(|entry| match entry.change {
            Err(Undecodable::Kind { kind, .. }) => kind,
            other => panic!("{other:?}"),
        });
        kinds.collect()
    }

    /// What a durable cursor that has read nothing finds.
    async fn durable(&mut self, begin: outbox::Cursor) -> usize {
        let low = outbox::Cursor(self.position.low());
        let found = outbox::read_after(&mut self.connection, begin, low, 100).await;
        found.unwrap().len()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_that_commits_late_holds_up_nothing_but_durable_cursors_and_is_never_skipped() {
    let database = Database::fresh().await;
    let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    drop(connection);
    let mut reader = LiveReader::of(&store).await;
    let begin = outbox::Cursor(reader.position.low());
    let at = std::time::SystemTime::now();
    let mut slow = database.connect().await;
    let open = slow.transaction().await.unwrap();
    open.execute(INSERT, &[&at, &"slow"]).await.unwrap();
    let quick = database.connect().await;
    quick.execute(INSERT, &[&at, &"quick"]).await.unwrap();
    assert_eq!(reader.turn().await, ["quick"], "it is there at once");
    assert_eq!(
        reader.durable(begin).await,
        0,
        "a cursor would pass the slow one"
    );
    // However long it is open: it holds its lock.
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_millis(300) {
        assert_eq!(reader.turn().await, [""; 0]);
        assert_eq!(reader.durable(begin).await, 0);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    open.commit().await.unwrap();
    assert_eq!(reader.turn().await, ["slow"]);
    assert_eq!(reader.durable(begin).await, 2);

    // One that is rolled back is waited for until that is certain.
    let open = slow.transaction().await.unwrap();
    open.execute(INSERT, &[&at, &"undone"]).await.unwrap();
    quick.execute(INSERT, &[&at, &"quick"]).await.unwrap();
    assert_eq!(reader.turn().await, ["quick"]);
    open.rollback().await.unwrap();
    assert_eq!(reader.durable(begin).await, 2);
    let begun = Instant::now();
    while reader.durable(begin).await < 3 {
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{:?}",
            reader.position
        );
        assert_eq!(reader.turn().await, [""; 0]);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let last = outbox::Cursor(reader.position.low());
    let again: outbox::Cursor = last.to_string().parse().unwrap();
    assert_eq!((again, reader.durable(last).await), (last, 0));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_transaction_of_somebody_else_holds_up_no_job() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    // One in another database of the cluster, and one in this: both have written, and stay open.
    let elsewhere = Database::fresh().await;
    let (mut foreign, mut own) = (elsewhere.connect().await, service.database.connect().await);
    let (foreign, own) = (
        foreign.transaction().await.unwrap(),
        own.transaction().await.unwrap(),
    );
    for open in [&foreign, &own] {
        open.batch_execute("select pg_current_xact_id(); update installation set name = name")
            .await
            .unwrap();
    }
    for _ in 0..3 {
        let name = service.submit("", "true").await;
        let job = service.done(&name).await;
        assert_eq!(job.line.result, Some(Outcome::Success));
    }
    foreign.rollback().await.unwrap();
    own.rollback().await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_exists_only_if_its_transaction_commits() {
    let database = Database::fresh().await;
    let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    let subject = Uuid::now_v7();
    let undone: Result<(), pennine_store::Error> =
        pennine_store::connect::in_transaction(&mut connection, async |connection| {
            outbox::write(connection, now, &done(subject)).await?;
            Err(pennine_store::Error::Refused("on purpose".into()))
        })
        .await;
    assert!(undone.is_err());
    assert!(
        outbox::of_subject(&mut connection, subject)
            .await
            .unwrap()
            .is_empty()
    );
    outbox::write(&mut connection, now, &done(subject))
        .await
        .unwrap();
    assert_eq!(
        outbox::of_subject(&mut connection, subject)
            .await
            .unwrap()
            .len(),
        1
    );
}

/// Reads events of the stream until `enough`, and returns their ids and kinds. That the queue is shown again is left out.
async fn events(service: &Service, last: Option<&str>, enough: usize) -> Vec<(String, String)> {
    let mut request = reqwest::Client::new()
        .get(format!("{}/api/v1/events", service.url))
        .bearer_auth(&service.token);
    if let Some(last) = last {
        request = request.header("last-event-id", last);
    }
    let response = request.send().await.unwrap();
    assert_eq!(response.status(), 200);
    let stream = futures::TryStreamExt::map_err(response.bytes_stream(), std::io::Error::other);
    let mut lines = BufReader::new(tokio_util::io::StreamReader::new(stream)).lines();
    let (mut found, mut id) = (Vec::new(), String::new());
    while found.len() < enough {
        let line = lines
            .next_line()
            .await
            .unwrap()
            .expect("the stream goes on");
        if let Some(text) = line.strip_prefix("id: ") {
            id = text.to_owned();
        } else if let Some(data) = line.strip_prefix("data: ") {
            let change: pennine_wire::Change = serde_json::from_str(data).unwrap();
            if change.kind != "queue.changed" {
                found.push((id.clone(), change.kind));
            }
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_event_stream_goes_on_where_a_client_left_off() {
    let service = Service::start().await;
    service.furnish().await;
    let all = events(&service, Some("0"), 3).await;
    let kinds: Vec<_> = all.iter().map(|(_, kind)| kind.as_str()).collect();
    assert_eq!(kinds, ["place.added", "place.added", "pool.added"]);
    let rest = events(&service, Some(&all[0].0), 2).await;
    assert_eq!(rest, all[1..]);
    let (heard, ()) = tokio::join!(events(&service, Some(&all[2].0), 1), async {
        service.add_pool("tank", &[]).await;
    });
    assert_eq!(heard[0].1, "pool.added");
    let wrong = reqwest::Client::new()
        .get(format!("{}/api/v1/events", service.url))
        .bearer_auth(&service.token)
        .header("last-event-id", "yesterday")
        .send()
        .await
        .unwrap();
    assert_eq!(wrong.status(), 422);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_clock_starts_no_earlier_than_the_last_record() {
    let database = Database::fresh().await;
    let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    let later: Moment = now + std::time::Duration::from_secs(3600);
    outbox::write(&mut connection, later, &done(Uuid::now_v7()))
        .await
        .unwrap();
    assert_eq!(outbox::moment(&mut connection).await.unwrap(), later);
}
