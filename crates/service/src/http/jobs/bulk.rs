//! Many jobs at once, by filter.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::operations;
use axum::Json;
use axum::extract::State;
use pennine_wire::{BulkAction, BulkResult, Problem};

/// Cancel, retry or move many jobs at once. Jobs are selected by waiting reason, team or requirement, or listed by
/// name; at most 500 in one request.
#[utoipa::path(post, operation_id = "act_on_jobs", path = "/jobs/actions", tag = "jobs", request_body = BulkAction,
    responses((status = 200, body = BulkResult), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn act(
    State(app): State<App>,
    who: Principal,
    JsonBody(action): JsonBody<BulkAction>,
) -> Answer<Json<BulkResult>> {
    Ok(Json(operations::jobs::bulk::act(&app, &who, action).await?))
}
