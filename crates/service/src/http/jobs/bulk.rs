//! Many jobs at once, by filter.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{BulkAction, BulkProgress, BulkResult, Page, Problem};

/// Cancel, retry or move many jobs at once. Jobs are selected by waiting reason, team or requirement, or listed by name. More than
/// 500 are changed in the background.
#[utoipa::path(post, operation_id = "act_on_jobs", path = "/jobs/actions", tag = "jobs", request_body = BulkAction,
    responses((status = 200, body = BulkResult), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn act(
    State(app): State<App>,
    who: Principal,
    JsonBody(action): JsonBody<BulkAction>,
) -> Answer<Json<BulkResult>> {
    Ok(Json(operations::jobs::bulk::act(&app, &who, action).await?))
}

/// The latest actions on many jobs that were carried out in the background, the newest first.
#[utoipa::path(get, operation_id = "list_job_actions", path = "/jobs/actions", tag = "jobs",
    responses((status = 200, body = Page<BulkProgress>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<BulkProgress>>> {
    Ok(Json(views::jobs::bulk::list(&app, &who).await?))
}

/// How far an action on many jobs is.
#[utoipa::path(get, operation_id = "show_job_action", path = "/jobs/actions/{action}", tag = "jobs",
    params(("action" = String, Path, description = "its short name (b-3)")),
    responses((status = 200, body = BulkProgress), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<BulkProgress>> {
    Ok(Json(views::jobs::bulk::show(&app, &who, &name).await?))
}

/// Stop an action on many jobs. What it has changed stays changed.
#[utoipa::path(post, operation_id = "stop_job_action", path = "/jobs/actions/{action}/stop", tag = "jobs",
    params(("action" = String, Path, description = "its short name (b-3)")),
    responses((status = 200, body = BulkProgress), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn stop(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<BulkProgress>> {
    Ok(Json(operations::jobs::bulk::stop(&app, &who, &name).await?))
}
