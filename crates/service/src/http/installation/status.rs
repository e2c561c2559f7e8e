//! How things stand now, and the skyline.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::installation::status::SkylineParams;
use axum::Json;
use axum::extract::State;
use pennine_wire::{Skyline, Status};

/// How things stand now: the answer line and the figures that prove it.
#[utoipa::path(get, operation_id = "status", path = "/status", tag = "now", responses((status = 200, body = Status)))]
pub async fn status(State(app): State<App>, who: Principal) -> Answer<Json<Status>> {
    Ok(Json(views::installation::status::status(&app, &who).await?))
}

/// Demand over capacity in the last hour, for the whole yard.
#[utoipa::path(get, operation_id = "skyline", path = "/skyline", tag = "now", params(SkylineParams), responses((status = 200, body = Skyline)))]
pub async fn skyline(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<SkylineParams>,
) -> Answer<Json<Skyline>> {
    Ok(Json(
        views::installation::status::skyline(&app, &who, params).await?,
    ))
}
