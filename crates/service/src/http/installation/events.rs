//! Live changes, as Server-Sent Events. An event's id is its place in the feed, so that a client that lost its
//! connection goes on where it was (Last-Event-ID), at whichever replica it lands.

use crate::access::Principal;
use crate::app::App;
use crate::http::accept::Peer;
use crate::http::answer::Answer;
use crate::http::auth::until_signed_out;
use crate::views::installation::changes::{LiveChange, follow};
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures::{Stream, StreamExt};
use std::convert::Infallible;
use std::time::Duration;

/// Everything that changes and may be seen, from now on or from `Last-Event-ID`. Ends within seconds when the token is revoked or
/// expires.
#[utoipa::path(get, operation_id = "stream_events", path = "/events", tag = "now",
    params(("Last-Event-ID" = Option<String>, Header, description = "the id of the last event that was seen")),
    responses((status = 200, content_type = "text/event-stream", body = pennine_wire::Change)))]
pub async fn stream(
    State(app): State<App>,
    who: Principal,
    peer: Peer,
    headers: HeaderMap,
) -> Answer<Sse<impl Stream<Item = Result<Event, Infallible>>>> {
    let last = headers
        .get("last-event-id")
        .and_then(|id| id.to_str().ok())
        .filter(|id| !id.is_empty());
    let signed_out = Box::pin(until_signed_out(app.clone(), headers.clone(), peer));
    let changes = follow(app, who, last).await?.take_until(signed_out);
    let events = changes.map(|change| Ok(event(&change)));
    Ok(Sse::new(events).keep_alive(
        KeepAlive::new()
            .interval(Duration::from_secs(10))
            .text("still here"),
    ))
}

fn event(live: &LiveChange) -> Event {
    let event = || Event::default().id(live.cursor.clone());
    let unreadable = || event().comment("a change that this version cannot read");
    match &live.change {
        Some(change) => event().json_data(change).unwrap_or_else(|_| unreadable()),
        None => unreadable(),
    }
}
