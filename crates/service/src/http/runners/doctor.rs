//! What the service can tell of a runner that does not do what it should.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::views;
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{Checkup, Problem};

/// Looks at one runner from the service's end: its connection, whether its machine answers, what stands in the way of it
/// taking work, how its last jobs ended, and what it said itself.
#[utoipa::path(get, operation_id = "check_runner", path = "/runners/{runner}/doctor", tag = "yard",
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Checkup), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn check(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Checkup>> {
    Ok(Json(
        views::runners::doctor::check(&app, &who, &text).await?,
    ))
}
