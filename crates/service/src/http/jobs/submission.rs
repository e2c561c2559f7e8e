//! Submitting a job.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::operations;
use crate::operations::installation::idempotency::PlannedId;
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use pennine_wire::{NewJob, Problem, TakenJob};

/// Submit a job.
#[utoipa::path(post, operation_id = "submit_job", path = "/jobs", tag = "jobs", request_body = NewJob,
    params(("Idempotency-Key" = Option<String>, Header, description = "sent twice with the same key, the job is made once")),
    responses((status = 201, body = TakenJob), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn submit(
    State(app): State<App>,
    who: Principal,
    planned: Option<Extension<PlannedId>>,
    JsonBody(new): JsonBody<NewJob>,
) -> Answer<(StatusCode, Json<TakenJob>)> {
    Ok(created(
        operations::jobs::submission::submit(&app, &who, planned.map(|id| id.0), new).await?,
    ))
}
