//! Environment variables of the jobs of a place or of a pool.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::{JsonBody, Params};
use crate::operations;
use crate::views::people::variable::{self, VariableParams};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_wire::{NewVariable, Page, Problem, Variable, VariableRemoval};

/// The variables of the places that you see, and of their pools; or the ones that a project's jobs get, also from the places above it.
#[utoipa::path(get, operation_id = "list_variables", path = "/variables", tag = "tree", params(VariableParams),
    responses((status = 200, body = Page<Variable>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(asked): Params<VariableParams>,
) -> Answer<Json<Page<Variable>>> {
    Ok(Json(variable::list(&app, &who, asked).await?))
}

/// Set a variable of a place or of a pool. Jobs that are assigned from now on get it.
#[utoipa::path(post, operation_id = "set_variable", path = "/variables", tag = "tree", request_body = NewVariable,
    responses((status = 200, body = Variable), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn set(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewVariable>,
) -> Answer<Json<Variable>> {
    Ok(Json(
        operations::people::variable::set(&app, &who, new).await?,
    ))
}

/// Remove a variable of a place or of a pool.
#[utoipa::path(post, operation_id = "remove_variable", path = "/variables/remove", tag = "tree", request_body = VariableRemoval,
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    JsonBody(removal): JsonBody<VariableRemoval>,
) -> Answer<StatusCode> {
    operations::people::variable::remove(&app, &who, removal).await?;
    Ok(StatusCode::NO_CONTENT)
}
