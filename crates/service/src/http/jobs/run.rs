//! Runs.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::{JsonBody, Params};
use crate::operations::installation::idempotency::PlannedId;
use crate::views::jobs::run::RunListParams;
use crate::{operations, views};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use pennine_wire::{NewRun, Page, Problem, Run, RunLine, RunRetry, TakenRun};

/// Runs, newest first.
#[utoipa::path(get, operation_id = "list_runs", path = "/runs", tag = "jobs", params(RunListParams),
    responses((status = 200, body = Page<RunLine>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<RunListParams>,
) -> Answer<Json<Page<RunLine>>> {
    Ok(Json(views::jobs::run::list(&app, &who, &params).await?))
}

/// Submit the jobs of a job sheet.
#[utoipa::path(post, operation_id = "submit_run", path = "/runs", tag = "jobs", request_body = NewRun,
    params(("Idempotency-Key" = Option<String>, Header, description = "sent twice with the same key, the run is made once")),
    responses((status = 201, body = TakenRun), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn submit(
    State(app): State<App>,
    who: Principal,
    planned: Option<Extension<PlannedId>>,
    JsonBody(new): JsonBody<NewRun>,
) -> Answer<(StatusCode, Json<TakenRun>)> {
    let planned = planned.map(|id| id.0);
    Ok(created(
        operations::jobs::run::submit(&app, &who, planned, new).await?,
    ))
}

/// One run with its jobs, by id or short name.
#[utoipa::path(get, operation_id = "show_run", path = "/runs/{run}", tag = "jobs",
    params(("run" = String, Path, description = "its id or short name (run-207)")),
    responses((status = 200, body = Run), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Run>> {
    Ok(Json(views::jobs::run::show(&app, &who, &text).await?))
}

/// Cancel a run: every job of it that is not done. Cancelling twice does no harm.
#[utoipa::path(post, operation_id = "cancel_run", path = "/runs/{run}/cancel", tag = "jobs",
    params(("run" = String, Path, description = "its id or short name (run-207)")),
    responses((status = 200, body = Run), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn cancel(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Run>> {
    Ok(Json(
        operations::jobs::run::cancel(&app, &who, &text).await?,
    ))
}

/// Try jobs of a run again: new ones take their places in it.
#[utoipa::path(post, operation_id = "retry_run", path = "/runs/{run}/retry", tag = "jobs", request_body = RunRetry,
    params(("run" = String, Path, description = "its id or short name (run-207)")),
    responses((status = 200, body = Run), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn retry(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(retry): JsonBody<RunRetry>,
) -> Answer<Json<Run>> {
    Ok(Json(
        operations::jobs::run::retry(&app, &who, &text, retry).await?,
    ))
}

/// Release a job that waits for a person. It may still wait for other jobs.
#[utoipa::path(post, operation_id = "release_job", path = "/jobs/{job}/release", tag = "jobs",
    params(("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = Run), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn release(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Run>> {
    Ok(Json(
        operations::jobs::run::release(&app, &who, &text).await?,
    ))
}
