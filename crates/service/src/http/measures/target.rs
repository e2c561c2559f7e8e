//! Targets.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{NewTarget, Page, Problem, Target, TargetChange};

/// The targets, and how they stand.
#[utoipa::path(get, operation_id = "list_targets", path = "/targets", tag = "trends", responses((status = 200, body = Page<Target>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Target>>> {
    Ok(Json(views::measures::target::list(&app, &who).await?))
}

/// Add a target: a promise of how long jobs wait on a pool, or those of a team or a project, or all jobs.
#[utoipa::path(post, operation_id = "add_target", path = "/targets", tag = "trends", request_body = NewTarget,
    responses((status = 201, body = Target), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewTarget>,
) -> Answer<(StatusCode, Json<Target>)> {
    Ok(created(
        operations::measures::target::add(&app, &who, new).await?,
    ))
}

/// Change a target.
#[utoipa::path(patch, operation_id = "change_target", path = "/targets/{target}", tag = "trends", request_body = TargetChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("target" = String, Path, description = "its name")),
    responses((status = 200, body = Target), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<TargetChange>,
) -> Answer<Json<Target>> {
    Ok(Json(
        operations::measures::target::change(&app, &who, &name, change, &expected).await?,
    ))
}

/// Remove a target.
#[utoipa::path(delete, operation_id = "remove_target", path = "/targets/{target}", tag = "trends",
    params(("target" = String, Path, description = "its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<StatusCode> {
    operations::measures::target::remove(&app, &who, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}
