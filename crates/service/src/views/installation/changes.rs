//! Live changes, from now on or from a place in the feed, at whichever replica that place was read.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::feed::{ChangeBatch, Changes};
use crate::views::installation::change_filter::{ChangeDetail, ChangeFilter};
use futures::Stream;
use pennine_store::outbox::{self, Cursor, Entry};
use std::collections::VecDeque;
use std::time::Duration;
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::watch;

/// How soon to look again for what was missed.
const SETTLES: Duration = Duration::from_millis(50);
/// Rows read at once while catching up.
const BATCH: i64 = 500;

/// A change as sent to live clients.
pub struct LiveChange {
    /// Its place in the feed: where to go on after it.
    pub cursor: String,
    /// None where this version cannot read it.
    pub change: Option<pennine_wire::Change>,
}

struct Following {
    app: App,
    filter: ChangeFilter,
    receiver: Receiver<Changes>,
    servers: watch::Receiver<u64>,
    /// Everything up to here was sent, and nothing at or below it will still come: where a client goes on.
    cursor: Cursor,
    /// What the receiver brings begins after this, at the latest.
    received_from: Cursor,
    /// Whether everything up to there was read from the record.
    caught_up: bool,
    /// Changes to be sent, each with where a client goes on after it.
    ready: VecDeque<(Entry, Cursor)>,
}

/// Follows the changes from now on, or after the one with this cursor. The stream ends when the service stops or loses the
/// database.
///
/// # Errors
/// Invalid where the cursor is none.
pub async fn follow(
    app: App,
    who: Principal,
    after: Option<&str>,
) -> Result<impl Stream<Item = LiveChange> + use<>> {
    let (receiver, servers) = (app.feed.subscribe(), app.feed.servers());
    let marks = app.feed.marks().await;
    let cursor = match after {
        Some(text) => text
            .parse::<Cursor>()
            .map_err(|e| ServiceError::invalid("Last-Event-ID", e))?,
        None => marks.low,
    };
    let following = Following {
        filter: ChangeFilter::of(who),
        app,
        receiver,
        servers,
        cursor,
        received_from: marks.high,
        caught_up: false,
        ready: VecDeque::new(),
    };
    Ok(futures::stream::unfold(
        following,
        |mut following| async move {
            let live = following.visible().await?;
            Some((live, following))
        },
    ))
}

impl Following {
    /// The next change that may be seen; none when the service stops or the database is unavailable.
    async fn visible(&mut self) -> Option<LiveChange> {
        loop {
            let entry = self.next().await?;
            let cursor = self.cursor.to_string();
            let Some(change) = self.app.feed.readable(&entry) else {
                let change = None;
                return Some(LiveChange { cursor, change });
            };
            let (app, ready) = (&self.app, &self.ready);
            let coming = || {
                let ready = ready.iter();
                let readable = ready.filter_map(|(entry, _)| app.feed.readable(entry));
                readable.cloned().collect()
            };
            let body = match self.filter.detail(app, change, coming).await.ok()? {
                ChangeDetail::Hidden => continue,
                ChangeDetail::KindOnly => serde_json::json!({}),
                ChangeDetail::Full => change.body().ok()?,
            };
            let change = Some(pennine_wire::Change {
                kind: change.kind().to_owned(),
                subject: change.subject(),
                at: entry.at,
                body,
            });
            return Some(LiveChange { cursor, change });
        }
    }

    /// The next change; none when the service stops.
    async fn next(&mut self) -> Option<Entry> {
        loop {
            if let Some((entry, cursor)) = self.ready.pop_front() {
                self.cursor = cursor;
                return Some(entry);
            }
            if !self.caught_up {
                // The database is unavailable: the stream ends, and the client reconnects with its cursor.
                self.catch_up().await.ok()?;
                continue;
            }
            let received = tokio::select! {
                received = self.receiver.recv() => received,
                // Cursors of another server mean nothing here: the client reconnects.
                _ = self.servers.changed() => return None,
                () = self.app.stop.cancelled() => return None,
            };
            match received {
                Ok(changes) => self.receive(&changes),
                Err(RecvError::Lagged(_)) => {
                    self.received_from = self.app.feed.marks().await.high;
                    self.caught_up = false;
                }
                Err(RecvError::Closed) => return None,
            }
        }
    }

    fn receive(&mut self, changes: &ChangeBatch) {
        // What was read from the record is not sent again.
        let fresh = changes.iter().filter(|entry| entry.cursor > self.cursor);
        let before = self.cursor;
        self.ready
            .extend(fresh.map(|entry| (entry.clone(), before)));
        if let Some((_, after)) = self.ready.back_mut() {
            *after = changes.low.max(before);
        }
    }

    /// Reads from the record what is below the first change that the receiver brings.
    async fn catch_up(&mut self) -> pennine_store::Result<()> {
        let low = self.app.feed.low().await;
        let mut connection = self.app.store.people().await?;
        let found = outbox::read_after(&mut connection, self.cursor, low, BATCH).await?;
        drop(connection);
        if found.len() as i64 == BATCH {
            let found = found.into_iter();
            self.ready
                .extend(found.map(|entry| (entry.clone(), entry.cursor)));
            return Ok(());
        }
        self.caught_up = low >= self.received_from;
        let found = found.into_iter();
        self.ready
            .extend(found.map(|entry| (entry.clone(), entry.cursor)));
        if self.ready.is_empty() {
            self.cursor = self.cursor.max(low);
            if !self.caught_up {
                // A number below is missed: it comes in a moment, or never will.
                tokio::time::sleep(SETTLES).await;
            }
        }
        Ok(())
    }
}
