//! Maintenance windows.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{Maintenance, NewMaintenance, Page, Problem};

/// Maintenance that is on or to come, the earliest first.
#[utoipa::path(get, operation_id = "list_maintenance", path = "/maintenance", tag = "yard", responses((status = 200, body = Page<Maintenance>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Maintenance>>> {
    Ok(Json(views::runners::maintenance::list(&app, &who).await?))
}

/// Schedule a period in which a pool or a runner accepts no jobs. Running jobs continue.
#[utoipa::path(post, operation_id = "add_maintenance", path = "/maintenance", tag = "yard", request_body = NewMaintenance,
    responses((status = 201, body = Maintenance), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewMaintenance>,
) -> Answer<(StatusCode, Json<Maintenance>)> {
    Ok(created(
        operations::runners::maintenance::add(&app, &who, new).await?,
    ))
}

/// End or cancel maintenance.
#[utoipa::path(post, operation_id = "end_maintenance", path = "/maintenance/{maintenance}/end", tag = "yard",
    params(("maintenance" = String, Path, description = "its short name (m-3)")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn end(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<StatusCode> {
    operations::runners::maintenance::end(&app, &who, &text).await?;
    Ok(StatusCode::NO_CONTENT)
}
