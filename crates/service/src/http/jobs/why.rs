//! Why a job waits.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::views;
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{Problem, WaitExplanation};

/// Why a job waits, and what would run it.
#[utoipa::path(get, operation_id = "why_job_waits", path = "/jobs/{job}/why", tag = "jobs",
    params(("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = WaitExplanation), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn why(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<WaitExplanation>> {
    Ok(Json(views::jobs::why::why(&app, &who, &text).await?))
}
