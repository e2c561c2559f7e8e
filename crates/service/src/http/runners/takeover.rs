//! A scarce runner that many share: who is next, and taking it back.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{ChangedRunner, NextJob, Page, Problem, TakeRunnerBack};

/// The jobs that would be next on a runner, in the order in which dispatch would give it to them if it became free now and
/// no other runner could: bands, shares, limits and seats as they are.
#[utoipa::path(get, operation_id = "list_next", path = "/runners/{runner}/next", tag = "yard",
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Page<NextJob>), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn next(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Page<NextJob>>> {
    Ok(Json(
        views::runners::takeover::next(&app, &who, &text).await?,
    ))
}

/// Take over a runner from the jobs that it executes: they are ended and retried without counting a try, and the runner
/// is paused until it is resumed.
#[utoipa::path(post, operation_id = "take_runner_back", path = "/runners/{runner}/take-back", tag = "yard", request_body = TakeRunnerBack,
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = ChangedRunner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn take_back(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(back): JsonBody<TakeRunnerBack>,
) -> Answer<Json<ChangedRunner>> {
    Ok(Json(
        operations::runners::takeover::take_back(&app, &who, &text, back).await?,
    ))
}
