//! Tokens.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::{JsonBody, Params};
use crate::views::people::token::TokenParams;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{MadeToken, NewToken, Page, Problem, Token, TokenChange, TokenRotation};

/// The tokens at the places where you manage access, and your own, by name, revoked ones last. Secrets are not shown again.
#[utoipa::path(get, operation_id = "list_tokens", path = "/tokens", tag = "access", params(TokenParams),
    responses((status = 200, body = Page<Token>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(asked): Params<TokenParams>,
) -> Answer<Json<Page<Token>>> {
    Ok(Json(views::people::token::list(&app, &who, asked).await?))
}

/// Make a token. The answer holds the secret, this once.
#[utoipa::path(post, operation_id = "add_token", path = "/tokens", tag = "access", request_body = NewToken,
    responses((status = 201, body = MadeToken), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewToken>,
) -> Answer<(StatusCode, HoldsSecret, Json<MadeToken>)> {
    Ok(created_secret(
        operations::people::token::add(&app, &who, new).await?,
    ))
}

/// Change a token's role, place, purpose or lifetime. Its secret stays.
#[utoipa::path(patch, operation_id = "change_token", path = "/tokens/{token}", tag = "access", request_body = TokenChange,
    params(("token" = String, Path, description = "its name")),
    responses((status = 200, body = Token), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<TokenChange>,
) -> Answer<Json<Token>> {
    Ok(Json(
        operations::people::token::change(&app, &who, &name, change).await?,
    ))
}

/// Give a token another secret, which the answer holds, this once. The present one stays valid for a while.
#[utoipa::path(post, operation_id = "rotate_token", path = "/tokens/{token}/rotate", tag = "access", request_body = TokenRotation,
    params(("token" = String, Path, description = "its name")),
    responses((status = 201, body = MadeToken), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn rotate(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(rotation): JsonBody<TokenRotation>,
) -> Answer<(StatusCode, HoldsSecret, Json<MadeToken>)> {
    Ok(created_secret(
        operations::people::token::rotate(&app, &who, &name, rotation).await?,
    ))
}

/// Revoke a token: it is refused from now on, and its sign-ins at the console end.
#[utoipa::path(post, operation_id = "revoke_token", path = "/tokens/{token}/revoke", tag = "access",
    params(("token" = String, Path, description = "its name")),
    responses((status = 200, body = Token), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn revoke(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Token>> {
    Ok(Json(
        operations::people::token::revoke(&app, &who, &name).await?,
    ))
}
