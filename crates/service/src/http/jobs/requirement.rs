//! Trying a requirement against the yard before anyone submits.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::views;
use axum::Json;
use axum::extract::State;
use pennine_wire::{NewTrial, Problem, Trial};

/// Try a requirement: which runners satisfy it, which of them could take a job now, and which clause excludes the rest.
#[utoipa::path(post, operation_id = "try_requirement", path = "/where", tag = "jobs", request_body = NewTrial,
    responses((status = 200, body = Trial), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn try_out(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewTrial>,
) -> Answer<Json<Trial>> {
    Ok(Json(
        views::jobs::requirement::try_out(&app, &who, new).await?,
    ))
}
