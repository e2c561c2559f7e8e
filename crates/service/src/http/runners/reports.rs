//! What runners report of their attempts: the start, the log, the end.

use crate::app::App;
use crate::error::ServiceError;
use crate::http::accept::{ArrivalTime, Peer};
use crate::http::answer::{Answer, Failure};
use crate::http::body::{JsonBody, Params};
use crate::http::runners::protocol::AuthenticatedRunner;
use crate::http::upload;
use crate::operations::runners::{attempt_identity, attempt_secrets, attempt_source, reports};
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_wire::runner_protocol::{
    AttemptSecrets, FinishedReport, IdentityRequest, IdentityToken, LogAcknowledgement, LostReport,
    SecretsRequest, Settings, StartedReport,
};
use serde::Deserialize;

/// The header that carries an attempt's lease with its log.
const LEASE_HEADER: &str = "pennine-lease";

/// The lease that a request shows in its header.
fn lease_of(headers: &HeaderMap) -> Result<LeaseToken, ServiceError> {
    let lease = headers
        .get(LEASE_HEADER)
        .and_then(|lease| lease.to_str().ok());
    let lease = lease.and_then(|lease| lease.parse().ok());
    lease.ok_or_else(|| {
        let message = "the header with the attempt's lease is missing or no UUID";
        ServiceError::invalid(LEASE_HEADER, message)
    })
}

/// A command was started.
pub async fn started(
    State(app): State<App>,
    arrived: ArrivalTime,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    JsonBody(sent): JsonBody<StartedReport>,
) -> Answer<StatusCode> {
    reports::started(&app, &known, id, sent, arrived.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The secrets of an attempt that starts.
pub async fn secrets(
    State(app): State<App>,
    peer: Peer,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    JsonBody(sent): JsonBody<SecretsRequest>,
) -> Answer<Json<AttemptSecrets>> {
    let values = attempt_secrets::read(&app, &known, id, sent.lease, peer.0).await?;
    Ok(Json(values))
}

/// An identity token of an attempt that runs.
pub async fn identity(
    State(app): State<App>,
    peer: Peer,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    JsonBody(sent): JsonBody<IdentityRequest>,
) -> Answer<Json<IdentityToken>> {
    let token = attempt_identity::issue(&app, &known, id, sent, peer.0).await?;
    Ok(Json(token))
}

/// The files with which the job of an attempt begins.
pub async fn source(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    headers: HeaderMap,
) -> Answer<impl IntoResponse> {
    let lease = lease_of(&headers)?;
    let (bytes, pieces) = attempt_source::read(&app, &known, id, lease).await?;
    let length = [(header::CONTENT_LENGTH, bytes.to_string())];
    Ok((length, Body::from_stream(pieces)))
}

/// An attempt has ended and its log is complete.
pub async fn finished(
    State(app): State<App>,
    arrived: ArrivalTime,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    JsonBody(sent): JsonBody<FinishedReport>,
) -> Answer<StatusCode> {
    reports::finished(&app, &known, id, sent, arrived.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// An attempt is over and has no result. Its job is retried.
pub async fn lost(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    JsonBody(sent): JsonBody<LostReport>,
) -> Answer<StatusCode> {
    reports::lost(&app, &known, id, sent).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Where log bytes belong.
#[derive(Debug, Deserialize)]
pub struct LogParams {
    offset: i64,
}

/// The largest log upload, in bytes, as announced to runners.
fn log_bytes() -> usize {
    usize::try_from(Settings::default().log_chunk.0).unwrap_or(usize::MAX)
}

/// Bytes of a log.
pub async fn log(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    Params(params): Params<LogParams>,
    request: Request,
) -> Result<Json<LogAcknowledgement>, Failure> {
    let lease = lease_of(request.headers())?;
    let sent = upload::read(&app, request, log_bytes()).await?;
    let taken = reports::log(&app, &known, id, lease, params.offset, &sent.bytes).await?;
    Ok(Json(taken))
}
