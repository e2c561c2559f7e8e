//! What runners did over the last hours: each slot as a strip of time, and the states that the runner was in.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::runners::timeline::TimelineParams;
use axum::Json;
use axum::extract::State;
use pennine_wire::{Page, Problem, RunnerTime};

/// Recent activity of some runners.
#[utoipa::path(get, operation_id = "show_runner_time", path = "/runner-time", tag = "yard", params(TimelineParams),
    responses((status = 200, body = Page<RunnerTime>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<TimelineParams>,
) -> Answer<Json<Page<RunnerTime>>> {
    Ok(Json(
        views::runners::timeline::show(&app, &who, which).await?,
    ))
}
