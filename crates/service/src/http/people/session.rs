//! Signing in at the console with a token.

use crate::access::Principal;
use crate::app::App;
use crate::http::accept::Peer;
use crate::http::answer::Answer;
use crate::http::auth::{self, COOKIE};
use crate::http::body::JsonBody;
use crate::operations::people::session;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use axum_extra::extract::cookie::{Cookie, SameSite};
use pennine_core::access::Grant;
use pennine_wire::{Problem, SignIn, SignedIn};

fn signed_in(
    app: &App,
    name: String,
    grant: Grant,
    until: Option<pennine_core::time::Moment>,
) -> SignedIn {
    SignedIn {
        name,
        role: grant.role,
        place: grant.place,
        installation: app.installation.name.clone(),
        currency: app.config.currency.clone(),
        version: env!("CARGO_PKG_VERSION").into(),
        until,
    }
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "who_is_signed_in", path = "/session", tag = "session",
    responses((status = 200, body = SignedIn), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn who(State(app): State<App>, who: Principal) -> Json<SignedIn> {
    Json(signed_in(&app, who.name, who.grant, who.until))
}

/// Sign in: the answer sets an HttpOnly cookie.
#[utoipa::path(post, operation_id = "sign_in", path = "/session", tag = "session", request_body = SignIn, security(()),
    responses((status = 200, body = SignedIn), (status = 401, body = Problem, content_type = "application/problem+json"), (status = 429, body = Problem, content_type = "application/problem+json")))]
pub async fn sign_in(
    State(app): State<App>,
    Peer(peer): Peer,
    JsonBody(sent): JsonBody<SignIn>,
) -> Answer<impl IntoResponse> {
    let begun = session::sign_in(&app, &sent.token, peer).await?;
    let set = set_cookie(&app, &begun.cookie, begun.lifetime.as_secs());
    let who = signed_in(&app, begun.name, begun.grant, Some(begun.until));
    Ok(([(header::SET_COOKIE, set)], Json(who)))
}

/// Sign out.
#[utoipa::path(delete, operation_id = "sign_out", path = "/session", tag = "session", responses((status = 204)))]
pub async fn sign_out(State(app): State<App>, headers: HeaderMap) -> Answer<impl IntoResponse> {
    if let Some(cookie) = auth::cookie(&headers) {
        session::sign_out(&app, &cookie).await?;
    }
    Ok((
        StatusCode::NO_CONTENT,
        [(header::SET_COOKIE, set_cookie(&app, "", 0))],
    ))
}

fn set_cookie(app: &App, value: &str, seconds: u64) -> String {
    let base = app.config.base_path();
    let path = if base.is_empty() {
        "/".to_owned()
    } else {
        base
    };
    Cookie::build((COOKIE, value))
        .path(path)
        .max_age(time::Duration::seconds(
            i64::try_from(seconds).unwrap_or(i64::MAX),
        ))
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(app.public_url.starts_with("https://"))
        .build()
        .to_string()
}
