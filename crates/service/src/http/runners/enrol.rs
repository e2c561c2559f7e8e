//! A machine joins.

use crate::app::App;
use crate::http::accept::Peer;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::operations;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_wire::runner_protocol::{Enrol, Enrolled};

/// A machine joins with its ticket.
pub async fn enrol(
    State(app): State<App>,
    peer: Peer,
    JsonBody(sent): JsonBody<Enrol>,
) -> Answer<(StatusCode, Json<Enrolled>)> {
    let peer = peer.0.map(|peer| peer.to_string());
    let enrolled = operations::runners::enrol::enrol(&app, peer, sent).await?;
    Ok(created(enrolled))
}
