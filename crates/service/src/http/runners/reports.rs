//! What runners report of their attempts: the start, the log, the end.

use crate::app::App;
use crate::error::ServiceError;
use crate::http::accept::ArrivalTime;
use crate::http::answer::Answer;
use crate::http::body::{JsonBody, Params};
use crate::http::runners::protocol::AuthenticatedRunner;
use crate::operations::runners::reports;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_wire::runner_protocol::{
    FinishedReport, LogAcknowledgement, LostReport, StartedReport,
};
use serde::Deserialize;

/// The header that carries an attempt's lease with its log.
const LEASE_HEADER: &str = "pennine-lease";

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

/// Bytes of a log.
pub async fn log(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    Path(id): Path<AttemptId>,
    Params(params): Params<LogParams>,
    headers: HeaderMap,
    bytes: Bytes,
) -> Answer<Json<LogAcknowledgement>> {
    let lease = headers
        .get(LEASE_HEADER)
        .and_then(|lease| lease.to_str().ok())
        .and_then(|lease| lease.parse::<LeaseToken>().ok())
        .ok_or_else(|| {
            ServiceError::invalid(
                LEASE_HEADER,
                "the header with the attempt's lease is missing or no UUID",
            )
        })?;
    let taken = reports::log(&app, &known, id, lease, params.offset, &bytes).await?;
    Ok(Json(taken))
}
