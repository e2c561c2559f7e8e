//! Live changes, from now on or from a place in the feed, at whichever replica that place was read.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::feed::Changes;
use futures::Stream;
use pennine_store::outbox::{self, Cursor, Entry};
use std::collections::VecDeque;
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;

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
    receiver: Receiver<Changes>,
    cursor: Cursor,
    /// Whether everything up to where the receiver begins was read from the record.
    caught_up: bool,
    ready: VecDeque<Entry>,
}

/// Follows the changes from now on, or after the one with this cursor. The stream ends when the service stops or loses the
/// database.
///
/// # Errors
/// Invalid where the cursor is none.
pub async fn follow(
    app: App,
    after: Option<&str>,
) -> Result<impl Stream<Item = LiveChange> + use<>> {
    let receiver = app.feed.subscribe();
    let cursor = match after {
        Some(text) => text
            .parse::<Cursor>()
            .map_err(|e| ServiceError::invalid("Last-Event-ID", e))?,
        None => outbox::head(&mut *app.store.get().await?).await?,
    };
    let following = Following {
        app,
        receiver,
        cursor,
        caught_up: false,
        ready: VecDeque::new(),
    };
    Ok(futures::stream::unfold(
        following,
        |mut following| async move {
            let entry = following.next().await?;
            Some((following.live(&entry), following))
        },
    ))
}

impl Following {
    fn live(&self, entry: &Entry) -> LiveChange {
        let change = self.app.feed.readable(entry);
        let change = change.and_then(|change| {
            Some(pennine_wire::Change {
                kind: change.kind().to_owned(),
                subject: change.subject(),
                at: entry.at,
                body: change.body().ok()?,
            })
        });
        LiveChange {
            cursor: entry.cursor.to_string(),
            change,
        }
    }

    /// The next change; none when the service stops.
    async fn next(&mut self) -> Option<Entry> {
        loop {
            if let Some(entry) = self.ready.pop_front() {
                self.cursor = entry.cursor;
                return Some(entry);
            }
            if !self.caught_up {
                match self.read().await {
                    Ok(found) => self.caught_up = found < BATCH,
                    // The database is unavailable: the stream ends, and the client reconnects with its cursor.
                    Err(_) => return None,
                }
                continue;
            }
            let received = tokio::select! {
                received = self.receiver.recv() => received,
                () = self.app.stop.cancelled() => return None,
            };
            match received {
                Ok(changes) => {
                    let cursor = self.cursor;
                    self.ready.extend(
                        changes
                            .iter()
                            .filter(|entry| entry.cursor > cursor)
                            .cloned(),
                    );
                }
                Err(RecvError::Lagged(_)) => self.caught_up = false,
                Err(RecvError::Closed) => return None,
            }
        }
    }

    async fn read(&mut self) -> pennine_store::Result<i64> {
        let mut connection = self.app.store.get().await?;
        let found = outbox::read_after(&mut connection, self.cursor, BATCH).await?;
        self.ready.extend(found.entries);
        Ok(self.ready.len() as i64)
    }
}
