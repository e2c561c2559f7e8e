//! Tokens.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{MadeToken, NewToken, Page, Problem, Token, TokenRotation};

/// The tokens at the places where you manage access, and your own. Secrets are not shown again.
#[utoipa::path(get, operation_id = "list_tokens", path = "/tokens", tag = "access", responses((status = 200, body = Page<Token>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Token>>> {
    Ok(Json(views::people::token::list(&app, &who).await?))
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
