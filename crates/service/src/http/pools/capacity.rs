//! How pools get machines: the policy, what would be decided, what was, and the relief.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::pools::capacity::{DecisionParams, Window};
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{CapacityDecision, Page, Problem, Relief};

/// What was decided about machines, newest first.
#[utoipa::path(get, operation_id = "list_decisions", path = "/capacity/decisions", tag = "machines", params(DecisionParams),
    responses((status = 200, body = Page<CapacityDecision>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn decisions(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<DecisionParams>,
) -> Answer<Json<Page<CapacityDecision>>> {
    Ok(Json(
        views::pools::capacity::decisions(&app, &who, which).await?,
    ))
}

/// A pool's relief: demand over capacity, what was decided meanwhile, and what it cost.
#[utoipa::path(get, operation_id = "show_relief", path = "/pools/{pool}/relief", tag = "machines",
    params(("pool" = String, Path, description = "its name"), Window),
    responses((status = 200, body = Relief), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn relief(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    Params(window): Params<Window>,
) -> Answer<Json<Relief>> {
    Ok(Json(
        views::pools::capacity::relief(&app, &who, &name, window).await?,
    ))
}
