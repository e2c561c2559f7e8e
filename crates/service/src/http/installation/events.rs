//! Live changes, as Server-Sent Events. An event's id is its place in the feed, so that a client that lost its
//! connection goes on where it was (Last-Event-ID), at whichever replica it lands.

use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use crate::feed::Changes;
use crate::http::answer::Answer;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures::Stream;
use pennine_store::outbox::{self, Cursor, Entry};
use std::collections::VecDeque;
use std::convert::Infallible;
use std::time::Duration;
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;

/// Rows read at once while catching up.
const BATCH: i64 = 500;

struct Following {
    app: App,
    receiver: Receiver<Changes>,
    cursor: Cursor,
    /// Whether everything up to where the receiver begins was read from the record.
    caught_up: bool,
    ready: VecDeque<Entry>,
}

/// Everything that changes, from now on or from `Last-Event-ID`.
#[utoipa::path(get, operation_id = "stream_events", path = "/events", tag = "now",
    params(("Last-Event-ID" = Option<String>, Header, description = "the id of the last event that was seen")),
    responses((status = 200, content_type = "text/event-stream", body = pennine_wire::Change)))]
pub async fn stream(
    State(app): State<App>,
    _: Principal,
    headers: HeaderMap,
) -> Answer<Sse<impl Stream<Item = Result<Event, Infallible>>>> {
    let receiver = app.feed.subscribe();
    let last = headers
        .get("last-event-id")
        .and_then(|id| id.to_str().ok())
        .filter(|id| !id.is_empty());
    let mut connection = app.store.get().await?;
    let cursor = match last {
        Some(text) => text
            .parse::<Cursor>()
            .map_err(|e| ServiceError::invalid("Last-Event-ID", e))?,
        None => outbox::head(&mut connection).await?,
    };
    drop(connection);
    let following = Following {
        app,
        receiver,
        cursor,
        caught_up: false,
        ready: VecDeque::new(),
    };
    let events = futures::stream::unfold(following, |mut following| async move {
        let entry = following.next().await?;
        let event = told(&following.app, &entry);
        Some((Ok(event), following))
    });
    Ok(Sse::new(events).keep_alive(
        KeepAlive::new()
            .interval(Duration::from_secs(10))
            .text("still here"),
    ))
}

fn told(app: &App, entry: &Entry) -> Event {
    let event = || Event::default().id(entry.cursor.to_string());
    let unreadable = || event().comment("a change that this version cannot read");
    let Some(change) = app.feed.readable(entry) else {
        return unreadable();
    };
    let Ok(body) = change.body() else {
        return unreadable();
    };
    let body = pennine_wire::Change {
        kind: change.kind().to_owned(),
        subject: change.subject(),
        at: entry.at,
        body,
    };
    event().json_data(&body).unwrap_or_else(|_| unreadable())
}

impl Following {
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
                    // The database is away: the stream ends, and the client comes back with its cursor.
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
