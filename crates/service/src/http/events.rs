//! Live changes, as Server-Sent Events. An event's id is its place in the feed, so that a client that lost its
//! connection goes on where it was (Last-Event-ID), at whichever replica it lands.

use super::answer::{Answer, Failure};
use super::auth::Principal;
use crate::app::App;
use crate::feed::Changes;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures::Stream;
use pennine_store::outbox::{self, Change, Cursor};
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
    ready: VecDeque<Change>,
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
            .map_err(|e| Failure::invalid("Last-Event-ID", e))?,
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
        let change = following.next().await?;
        Some((Ok(told(&change)), following))
    });
    Ok(Sse::new(events).keep_alive(
        KeepAlive::new()
            .interval(Duration::from_secs(10))
            .text("still here"),
    ))
}

fn told(change: &Change) -> Event {
    let body = pennine_wire::Change {
        kind: change.kind.clone(),
        subject: change.subject,
        at: change.at.0,
        body: change.body.clone(),
    };
    let event = Event::default().id(change.cursor().to_string());
    event
        .json_data(&body)
        .unwrap_or_else(|_| Event::default().comment("a change that cannot be written"))
}

impl Following {
    /// The next change; none when the service stops.
    async fn next(&mut self) -> Option<Change> {
        loop {
            if let Some(change) = self.ready.pop_front() {
                self.cursor = change.cursor();
                return Some(change);
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
                            .filter(|change| change.cursor() > cursor)
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
        self.ready.extend(found.changes);
        Ok(self.ready.len() as i64)
    }
}
