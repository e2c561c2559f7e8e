//! The change feed of one replica: reads the outbox and notifies this replica's subscribers.
//!
//! One task reads. It is woken by this replica's own writes, by NOTIFY from other replicas (a hint, coalesced, from
//! one connection of its own, never inside a write), and by a sweep every 250 ms, which repairs a lost hint.

use crate::background::{Task, TaskTurns};
use pennine_store::address::Address;
use pennine_store::change::Change;
use pennine_store::outbox::{self, Cursor, DatabaseServer, Entry, Position};
use pennine_store::{Error, PooledConnection, Store};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, broadcast, watch};
use tokio_util::sync::CancellationToken;

/// How long a change may go unnoticed when its hint is lost.
const SWEEP: Duration = Duration::from_millis(250);
/// A replica that has not read for this long may have lost the database, and answers nothing from memory.
const FRESH: Duration = Duration::from_millis(1500);
/// While a number of the feed is missed: how soon to look for it.
const MISSED: Duration = Duration::from_millis(50);
/// Rows read at once.
const BATCH: i64 = 1000;
/// Batches a slow listener may lag behind before it reads from the database by itself.
const BACKLOG: usize = 256;
/// The channel on which replicas hint to each other.
const CHANNEL: &str = "pennine_outbox";
/// At most one hint to the other replicas in this time.
const HINT_EVERY: Duration = Duration::from_millis(2);

/// Some entries of the feed, by number. Those of one subject come in order; one of another may come after a greater number.
pub type Changes = Arc<ChangeBatch>;

/// What one reading of the feed has found.
#[derive(Debug)]
pub struct ChangeBatch {
    entries: Vec<Entry>,
    /// Everything up to here was read, with this batch.
    pub low: Cursor,
}

impl std::ops::Deref for ChangeBatch {
    type Target = [Entry];
    fn deref(&self) -> &[Entry] {
        &self.entries
    }
}

/// Unreadable entries that are kept to be shown.
const UNREADABLE: usize = 16;

/// The entries that this version could not read, by their place in the feed; the latest [`UNREADABLE`] of them.
#[derive(Default)]
struct Unreadable {
    count: usize,
    latest: BTreeMap<Cursor, String>,
}

/// What a turn of the reader has found.
enum Turn {
    /// There is more to read at once.
    More,
    /// All that is there was read; a number below it is missed.
    Missed,
    /// All that is there was read.
    End,
}

/// The one reader of a replica.
struct Reader {
    feed: Feed,
    store: Store,
    /// Kept while it works: what is known of transactions is void on another.
    connection: Option<PooledConnection>,
    server: Option<DatabaseServer>,
    position: Option<Position>,
    begun: Instant,
}

impl Reader {
    fn new(feed: Feed, store: Store) -> Reader {
        Reader {
            feed,
            store,
            connection: None,
            server: None,
            position: None,
            begun: Instant::now(),
        }
    }

    fn lose_connection(&mut self) {
        self.connection = None;
        let now = self.begun.elapsed();
        if let Some(position) = &mut self.position {
            position.forget_locks(now);
        }
    }

    /// Makes sure that there is a connection, and to which server. Another than before restarts the feed.
    async fn connect(&mut self) -> Result<(), Error> {
        if self.connection.is_none() {
            let mut connection = self.store.tasks().await?;
            let server = outbox::server(&mut connection).await?;
            let before = self.server.replace(server);
            if before.is_some() && before != self.server {
                tracing::warn!(
                    "another database server answers: a standby was promoted, or the database was restored; the feed is read from its end, and all state is rebuilt"
                );
                self.position = None;
                self.feed.servers.send_modify(|count| *count += 1);
            }
            self.connection = Some(connection);
        }
        Ok(())
    }

    async fn turn(&mut self) -> Result<Turn, Error> {
        let begun = self.begun;
        self.connect().await?;
        let Some(connection) = self.connection.as_mut() else {
            return Ok(Turn::End);
        };
        let Some(position) = self.position.as_mut() else {
            let position = outbox::beginning(connection, begun.elapsed()).await?;
            self.feed.note_marks(&position);
            self.position = Some(position);
            self.feed.reads();
            return Ok(Turn::More);
        };
        let entries = outbox::read_live(connection, position, BATCH).await?;
        let ids: Vec<i64> = entries.iter().map(|entry| entry.cursor.0).collect();
        let is_all = (entries.len() as i64) < BATCH;
        position.take(&ids, is_all, begun.elapsed());
        for entry in &entries {
            self.feed.readable(entry);
        }
        if !entries.is_empty() {
            // Having no subscribers is not an error.
            let low = Cursor(position.low());
            let _ = self
                .feed
                .sender
                .send(Arc::new(ChangeBatch { entries, low }));
        }
        if is_all {
            self.feed.was_read();
        }
        self.feed.note_marks(position);
        self.feed.reads();
        if !is_all {
            return Ok(Turn::More);
        }
        if position.needs_locks(begun.elapsed()) {
            let writers = outbox::writers(connection).await?;
            position.see_locks(&writers, begun.elapsed());
        }
        Ok(if position.has_gaps() {
            Turn::Missed
        } else {
            Turn::End
        })
    }
}

/// How far the feed was read.
#[derive(Clone, Copy, Debug)]
pub struct FeedMarks {
    /// Everything up to here was read, and nothing at or below it will still come: as far as a durable cursor may go.
    pub low: Cursor,
    /// The greatest number that was read.
    pub high: Cursor,
}

/// The handle of the feed.
#[derive(Clone)]
pub struct Feed {
    own_write: Arc<Notify>,
    foreign_write: Arc<Notify>,
    sender: broadcast::Sender<Changes>,
    /// Whether the database answered last time.
    healthy: watch::Sender<bool>,
    /// When it last answered.
    read_at: Arc<Mutex<Option<Instant>>>,
    /// None before the first reading.
    marks: Arc<Mutex<Option<FeedMarks>>>,
    /// Counts how often another server was found behind the connection.
    servers: watch::Sender<u64>,
    unreadable: Arc<Mutex<Unreadable>>,
}

impl Default for Feed {
    fn default() -> Self {
        Feed {
            own_write: Arc::default(),
            foreign_write: Arc::default(),
            sender: broadcast::channel(BACKLOG).0,
            healthy: watch::channel(false).0,
            read_at: Arc::default(),
            marks: Arc::default(),
            servers: watch::channel(0).0,
            unreadable: Arc::default(),
        }
    }
}

impl Feed {
    /// This replica has written something: read now, and hint to the others.
    pub fn kick(&self) {
        self.own_write.notify_one();
        self.foreign_write.notify_one();
    }

    /// Everything read from now on.
    pub fn subscribe(&self) -> broadcast::Receiver<Changes> {
        self.sender.subscribe()
    }

    /// Whether the outbox could be read last time.
    pub fn healthy(&self) -> bool {
        *self.healthy.borrow()
    }

    /// Whether the outbox was read so recently that an unknown change does not exist.
    pub fn fresh(&self) -> bool {
        let read_at = *self.read_at.lock().unwrap_or_else(PoisonError::into_inner);
        read_at.is_some_and(|at| at.elapsed() < FRESH)
    }

    /// How far the feed was read. Waits for the first reading.
    pub async fn marks(&self) -> FeedMarks {
        let mut healthy = self.healthy.subscribe();
        loop {
            if let Some(marks) = *self.marks.lock().unwrap_or_else(PoisonError::into_inner) {
                return marks;
            }
            // The sender lives as long as this handle.
            let _ = healthy.changed().await;
        }
    }

    /// As far as a durable cursor may go. Waits for the first reading.
    pub async fn low(&self) -> Cursor {
        self.marks().await.low
    }

    /// Changes when another database server is found behind the connection: a standby that was promoted, say. What was read
    /// of the one before may not be there, and its numbers may stand for other changes.
    pub fn servers(&self) -> watch::Receiver<u64> {
        self.servers.subscribe()
    }

    /// The outbox has just been read to its end.
    pub(crate) fn was_read(&self) {
        let now = Some(Instant::now());
        *self.read_at.lock().unwrap_or_else(PoisonError::into_inner) = now;
    }

    fn note_marks(&self, position: &Position) {
        let marks = FeedMarks {
            low: Cursor(position.low()),
            high: Cursor(position.high()),
        };
        *self.marks.lock().unwrap_or_else(PoisonError::into_inner) = Some(marks);
    }

    /// The database answers.
    fn reads(&self) {
        if !self.healthy.send_replace(true) {
            tracing::info!("reading the change feed");
        }
    }

    /// Returns the change of an entry. One that this version cannot read is logged, once, and shown by `/readyz`.
    pub fn readable<'e>(&self, entry: &'e Entry) -> Option<&'e Change> {
        let error = match &entry.change {
            Ok(change) => return Some(change),
            Err(error) => error,
        };
        let mut unreadable = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        if !unreadable.latest.contains_key(&entry.cursor) {
            tracing::error!(change = %entry.cursor, %error, "a change cannot be read");
            unreadable.count += 1;
            unreadable.latest.insert(entry.cursor, error.to_string());
            if unreadable.latest.len() > UNREADABLE {
                unreadable.latest.pop_first();
            }
        }
        None
    }

    /// Returns how many entries this version could not read since it was started, and the latest of them with the reason.
    pub fn unreadable(&self) -> (usize, Vec<(Cursor, String)>) {
        let unreadable = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let latest = unreadable.latest.iter();
        (
            unreadable.count,
            latest.map(|(at, error)| (*at, error.clone())).collect(),
        )
    }

    /// Reads the outbox until told to stop.
    pub async fn read(self, store: Store, stop: CancellationToken, turns: TaskTurns) {
        let mut reader = Reader::new(self, store);
        while !stop.is_cancelled() {
            turns.turn(Task::FeedReader);
            let pause = match reader.turn().await {
                Ok(Turn::More) => continue,
                Ok(Turn::Missed) => MISSED,
                Ok(Turn::End) => SWEEP,
                Err(error) => {
                    reader.lose_connection();
                    if reader.feed.healthy.send_replace(false) {
                        tracing::warn!(%error, "the change feed cannot be read; trying again");
                    }
                    SWEEP
                }
            };
            tokio::select! {
                () = reader.feed.own_write.notified() => {}
                () = tokio::time::sleep(pause) => {}
                () = stop.cancelled() => {}
            }
        }
    }

    /// Hints to other replicas and listens for theirs, on one connection, until told to stop.
    pub async fn hint(self, address: Address, stop: CancellationToken, turns: TaskTurns) {
        while !stop.is_cancelled() {
            turns.turn(Task::FeedHints);
            if let Err(error) = self.hint_once(&address, &stop).await {
                tracing::debug!(%error, "the hint connection broke; the sweep goes on without it");
            }
            tokio::select! {
                () = tokio::time::sleep(Duration::from_secs(1)) => {}
                () = stop.cancelled() => {}
            }
        }
    }

    async fn hint_once(
        &self,
        address: &Address,
        stop: &CancellationToken,
    ) -> Result<(), tokio_postgres::Error> {
        let (client, mut connection) = address.connect().await?;
        let own_write = self.own_write.clone();
        let ours: Arc<std::sync::atomic::AtomicI32> = Arc::default();
        let ours_too = ours.clone();
        let driver = tokio::spawn(async move {
            loop {
                match std::future::poll_fn(|cx| connection.poll_message(cx)).await {
                    Some(Ok(tokio_postgres::AsyncMessage::Notification(hint))) => {
                        // A hint of our own would only make us read what we have read.
                        if hint.process_id() != ours_too.load(std::sync::atomic::Ordering::Relaxed)
                        {
                            own_write.notify_one();
                        }
                    }
                    Some(Ok(_)) => {}
                    Some(Err(_)) | None => return,
                }
            }
        });
        let run = async {
            let pid: i32 = client
                .query_one("select pg_backend_pid()", &[])
                .await?
                .get(0);
            ours.store(pid, std::sync::atomic::Ordering::Relaxed);
            client.batch_execute(&format!("listen {CHANNEL}")).await?;
            let notify = client.prepare("select pg_notify($1, '')").await?;
            loop {
                self.foreign_write.notified().await;
                client.execute(&notify, &[&CHANNEL]).await?;
                tokio::time::sleep(HINT_EVERY).await;
            }
        };
        let result = tokio::select! {
            result = run => result,
            () = stop.cancelled() => Ok(()),
        };
        driver.abort();
        result
    }
}
