//! The change feed of one replica: reads the outbox and notifies this replica's subscribers.
//!
//! One task reads. It is woken by this replica's own writes, by NOTIFY from other replicas (a hint, coalesced, from
//! one connection of its own, never inside a write), and by a sweep every 250 ms, which repairs a lost hint.

use pennine_store::change::Change;
use pennine_store::outbox::{self, Cursor, Entry};
use pennine_store::{Error, Store};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, broadcast, watch};
use tokio_util::sync::CancellationToken;

/// How long a change may go unnoticed when its hint is lost.
const SWEEP: Duration = Duration::from_millis(250);
/// A replica that has not read for this long may have lost the database, and answers nothing from memory.
const FRESH: Duration = Duration::from_millis(1500);
/// While a change is committed but held up behind an older open transaction: how soon to look again, at first.
const HELD_UP: Duration = Duration::from_micros(500);
/// Rows read at once.
const BATCH: i64 = 1000;
/// Batches a slow listener may lag behind before it reads from the database by itself.
const BACKLOG: usize = 256;
/// The channel on which replicas hint to each other.
const CHANNEL: &str = "pennine_outbox";
/// At most one hint to the other replicas in this time.
const HINT_EVERY: Duration = Duration::from_millis(2);

/// When to read again.
enum ReadAgain {
    /// There is more.
    AtOnce,
    /// There is more, which may not be passed on yet.
    Soon,
    /// At the next write or sweep.
    WhenTold,
}

/// Some entries of the feed, in order.
pub type Changes = Arc<Vec<Entry>>;

/// Unreadable entries that are kept to be shown.
const UNREADABLE: usize = 16;

/// The entries that this version could not read, by their place in the feed; the latest [`UNREADABLE`] of them.
#[derive(Default)]
struct Unreadable {
    count: usize,
    latest: BTreeMap<Cursor, String>,
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

    /// The outbox has just been read to its end.
    pub(crate) fn was_read(&self) {
        let now = Some(Instant::now());
        *self.read_at.lock().unwrap_or_else(PoisonError::into_inner) = now;
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
    pub async fn read(self, store: Store, stop: CancellationToken) {
        let mut cursor: Option<Cursor> = None;
        let mut pause = SWEEP;
        while !stop.is_cancelled() {
            match self.read_some(&store, cursor).await {
                Ok((next, again)) => {
                    cursor = Some(next);
                    if !matches!(again, ReadAgain::AtOnce) {
                        self.was_read();
                    }
                    if !self.healthy() {
                        tracing::info!("reading the change feed");
                        self.healthy.send_replace(true);
                    }
                    pause = match again {
                        ReadAgain::AtOnce => continue,
                        ReadAgain::Soon if pause == SWEEP => HELD_UP,
                        ReadAgain::Soon => (pause * 2).min(SWEEP / 2),
                        ReadAgain::WhenTold => SWEEP,
                    };
                }
                Err(error) => {
                    if self.healthy.send_replace(false) {
                        tracing::warn!(%error, "the change feed cannot be read; trying again");
                    }
                }
            }
            tokio::select! {
                () = self.own_write.notified() => {}
                () = tokio::time::sleep(pause) => {}
                () = stop.cancelled() => {}
            }
        }
    }

    async fn read_some(
        &self,
        store: &Store,
        cursor: Option<Cursor>,
    ) -> Result<(Cursor, ReadAgain), Error> {
        let mut connection = store.get().await?;
        let Some(cursor) = cursor else {
            return Ok((outbox::head(&mut connection).await?, ReadAgain::AtOnce));
        };
        let outbox::Read { entries, held_up } =
            outbox::read_after(&mut connection, cursor, BATCH).await?;
        for entry in &entries {
            self.readable(entry);
        }
        let again = match held_up {
            true => ReadAgain::Soon,
            false if entries.len() as i64 == BATCH => ReadAgain::AtOnce,
            false => ReadAgain::WhenTold,
        };
        let next = entries.last().map_or(cursor, |entry| entry.cursor);
        if !entries.is_empty() {
            // Having no subscribers is not an error.
            let _ = self.sender.send(Arc::new(entries));
        }
        Ok((next, again))
    }

    /// Hints to other replicas and listens for theirs, on one connection, until told to stop.
    pub async fn hint(self, url: String, stop: CancellationToken) {
        while !stop.is_cancelled() {
            if let Err(error) = self.hint_once(&url, &stop).await {
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
        url: &str,
        stop: &CancellationToken,
    ) -> Result<(), tokio_postgres::Error> {
        let (client, mut connection) = tokio_postgres::connect(url, tokio_postgres::NoTls).await?;
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
