//! The change feed: nothing is skipped, whatever the order of commits.

use crate::support::{Database, Service};
use pennine_core::id::JobId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Moment;
use pennine_store::change::{Change, Undecodable};
use pennine_store::{Store, outbox, partition};
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

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_that_commits_late_is_read_in_its_place_and_never_skipped() {
    let database = Database::fresh().await;
    let store = Store::open(&database.url, 2).unwrap();
    let mut connection = store.get().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    let begin = outbox::head(&mut connection).await.unwrap();
    let at = std::time::SystemTime::now();
    let mut slow = database.connect().await;
    let open = slow.transaction().await.unwrap();
    open.execute(INSERT, &[&at, &"slow"]).await.unwrap();
    let quick = database.connect().await;
    quick.execute(INSERT, &[&at, &"quick"]).await.unwrap();
    let read = outbox::read_after(&mut connection, begin, 10)
        .await
        .unwrap();
    assert!(
        read.entries.is_empty(),
        "the quick one is held up behind the slow one"
    );
    assert!(read.held_up, "and the reader has to read again soon");
    open.commit().await.unwrap();
    // Transaction ids belong to the whole cluster: another test's open transaction may hold up this read as well.
    let read = loop {
        let read = outbox::read_after(&mut connection, begin, 10)
            .await
            .unwrap();
        if !read.held_up {
            break read;
        }
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    };
    // Unknown kinds are read in order too, and marked as unknown.
    let kinds: Vec<_> = read
        .entries
        .iter()
        .map(|entry| match &entry.change {
            Err(Undecodable::Kind { kind, .. }) => kind.as_str(),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(kinds, ["slow", "quick"]);
    let last = read.entries.last().unwrap().cursor;
    let again: outbox::Cursor = last.to_string().parse().unwrap();
    assert_eq!(again, last);
    assert!(
        outbox::read_after(&mut connection, last, 10)
            .await
            .unwrap()
            .entries
            .is_empty()
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_is_there_only_if_its_transaction_is() {
    let database = Database::fresh().await;
    let store = Store::open(&database.url, 2).unwrap();
    let mut connection = store.get().await.unwrap();
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

/// Reads events of the stream until `enough`, and returns their ids and kinds.
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
            found.push((id.clone(), change.kind));
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_event_stream_goes_on_where_a_client_left_off() {
    let service = Service::start().await;
    service.furnish().await;
    let all = events(&service, Some("0-0"), 3).await;
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
    let store = Store::open(&database.url, 2).unwrap();
    let mut connection = store.get().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    let later: Moment = now + std::time::Duration::from_secs(3600);
    outbox::write(&mut connection, later, &done(Uuid::now_v7()))
        .await
        .unwrap();
    assert_eq!(outbox::moment(&mut connection).await.unwrap(), later);
}
