//! Secrets of the jobs of a place or of a pool.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::{JsonBody, Params};
use crate::operations;
use crate::views::people::secret::{self, SecretParams};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_wire::{NewSecret, Page, Problem, Secret, SecretRemoval};

/// The secrets of the places that you see and of their pools, without values; or the ones that a project's jobs may name.
#[utoipa::path(get, operation_id = "list_secrets", path = "/secrets", tag = "tree", params(SecretParams),
    responses((status = 200, body = Page<Secret>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(asked): Params<SecretParams>,
) -> Answer<Json<Page<Secret>>> {
    Ok(Json(secret::list(&app, &who, asked).await?))
}

/// Set a secret of a place or of a pool: a new one, or the next version. Jobs that start from now on get it.
#[utoipa::path(post, operation_id = "set_secret", path = "/secrets", tag = "tree", request_body = NewSecret,
    responses((status = 200, body = Secret), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn set(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewSecret>,
) -> Answer<Json<Secret>> {
    Ok(Json(
        operations::people::secret::set(&app, &who, new).await?,
    ))
}

/// Remove a secret of a place or of a pool. Jobs that name it and have not started yet end with an error.
#[utoipa::path(post, operation_id = "remove_secret", path = "/secrets/remove", tag = "tree", request_body = SecretRemoval,
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    JsonBody(removal): JsonBody<SecretRemoval>,
) -> Answer<StatusCode> {
    operations::people::secret::remove(&app, &who, removal).await?;
    Ok(StatusCode::NO_CONTENT)
}
