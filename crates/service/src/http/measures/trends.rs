//! How long jobs waited, for what, how busy machines were, and what it cost.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::measures::trends::TrendParams;
use axum::Json;
use axum::extract::State;
use pennine_wire::{LongestWait, Page, Problem, Trends, WeekPattern};

/// Figures of a window: waits with their reasons, work, slots, machines and money.
#[utoipa::path(get, operation_id = "show_trends", path = "/trends", tag = "trends", params(TrendParams),
    responses((status = 200, body = Trends), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<TrendParams>,
) -> Answer<Json<Trends>> {
    Ok(Json(
        views::measures::trends::show(&app, &who, which).await?,
    ))
}

/// The hours of the week over a window.
#[utoipa::path(get, operation_id = "show_week", path = "/trends/week", tag = "trends", params(TrendParams),
    responses((status = 200, body = WeekPattern), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn week(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<TrendParams>,
) -> Answer<Json<WeekPattern>> {
    Ok(Json(
        views::measures::trends::week(&app, &who, which).await?,
    ))
}

/// The waits behind a figure: of the jobs that waited at some time in the window, the longest first.
#[utoipa::path(get, operation_id = "list_waits", path = "/trends/waits", tag = "trends", params(TrendParams),
    responses((status = 200, body = Page<LongestWait>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn waits(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<TrendParams>,
) -> Answer<Json<Page<LongestWait>>> {
    Ok(Json(
        views::measures::trends::waits(&app, &who, which).await?,
    ))
}
