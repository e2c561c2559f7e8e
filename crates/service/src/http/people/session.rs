//! Signing in at the console, with a token, a password or a one-time link.

use crate::access::{Origin, Principal};
use crate::app::App;
use crate::error::ServiceError;
use crate::http::answer::Answer;
use crate::http::auth::{self, COOKIE};
use crate::http::body::JsonBody;
use crate::operations::people::session::{self, NewSession};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use axum_extra::extract::cookie::{Cookie, SameSite};
use pennine_wire::{LinkOwner, LinkQuestion, LinkUse, Problem, SignIn, SignInOptions, SignedIn};

fn signed_in(app: &App, who: Principal) -> SignedIn {
    SignedIn {
        is_person: who.signed_in_person().is_some(),
        name: who.name,
        full_name: who.full_name,
        grants: who.rights.grants,
        purpose: who.rights.purpose,
        installation: app.installation.name.clone(),
        currency: app.config.currency.clone(),
        version: env!("CARGO_PKG_VERSION").into(),
        until: who.until,
    }
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "who_is_signed_in", path = "/session", tag = "session",
    responses((status = 200, body = SignedIn), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn who(State(app): State<App>, who: Principal) -> Json<SignedIn> {
    Json(signed_in(&app, who))
}

/// Sign in: the answer sets an HttpOnly cookie.
#[utoipa::path(post, operation_id = "sign_in", path = "/session", tag = "session", request_body = SignIn, security(()),
    responses((status = 200, body = SignedIn), (status = 401, body = Problem, content_type = "application/problem+json"), (status = 429, body = Problem, content_type = "application/problem+json")))]
pub async fn sign_in(
    State(app): State<App>,
    origin: Origin,
    JsonBody(sent): JsonBody<SignIn>,
) -> Answer<impl IntoResponse> {
    let begun = match &sent {
        SignIn {
            token: Some(token),
            name: None,
            ..
        } => session::with_token(&app, token, &origin).await?,
        SignIn {
            token: None,
            name: Some(name),
            password: Some(password),
            code,
        } => session::with_password(&app, name, password, code.as_deref(), &origin).await?,
        _ => {
            let message = "send either a token, or a name and a password";
            return Err(ServiceError::invalid("token", message));
        }
    };
    Ok(answer(&app, begun))
}

/// The answer to a sign-in: the cookie, and who is signed in.
fn answer(app: &App, begun: NewSession) -> impl IntoResponse + use<> {
    let set = set_cookie(app, &begun.cookie, begun.lifetime.as_secs());
    (
        [(header::SET_COOKIE, set)],
        Json(signed_in(app, begun.principal)),
    )
}

/// Whose a one-time link is.
#[utoipa::path(post, operation_id = "show_link", path = "/session/link", tag = "session", request_body = LinkQuestion, security(()),
    responses((status = 200, body = LinkOwner), (status = 410, body = Problem, content_type = "application/problem+json"), (status = 429, body = Problem, content_type = "application/problem+json")))]
pub async fn link_owner(
    State(app): State<App>,
    origin: Origin,
    JsonBody(asked): JsonBody<LinkQuestion>,
) -> Answer<Json<LinkOwner>> {
    Ok(Json(session::link_owner(&app, &asked.link, &origin).await?))
}

/// Set a password with a one-time link, and sign in: the answer sets an HttpOnly cookie.
#[utoipa::path(post, operation_id = "use_link", path = "/session/link/use", tag = "session", request_body = LinkUse, security(()),
    responses((status = 200, body = SignedIn), (status = 410, body = Problem, content_type = "application/problem+json"), (status = 429, body = Problem, content_type = "application/problem+json")))]
pub async fn use_link(
    State(app): State<App>,
    origin: Origin,
    JsonBody(sent): JsonBody<LinkUse>,
) -> Answer<impl IntoResponse> {
    let begun = session::with_link(&app, &sent, &origin).await?;
    Ok(answer(&app, begun))
}

/// Sign out.
#[utoipa::path(delete, operation_id = "sign_out", path = "/session", tag = "session", responses((status = 204)))]
pub async fn sign_out(
    State(app): State<App>,
    origin: Origin,
    headers: HeaderMap,
) -> Answer<impl IntoResponse> {
    if let Some(cookie) = auth::cookie(&headers) {
        session::sign_out(&app, &cookie, &origin).await?;
    }
    Ok((
        StatusCode::NO_CONTENT,
        [(header::SET_COOKIE, set_cookie(&app, "", 0))],
    ))
}

/// How one can sign in.
#[utoipa::path(get, operation_id = "show_sign_in_options", path = "/session/options", tag = "session", security(()),
    responses((status = 200, body = SignInOptions)))]
pub async fn options(State(app): State<App>) -> Json<SignInOptions> {
    let provider = app.provider.settings();
    Json(SignInOptions {
        installation: app.installation.name.clone(),
        provider: provider.map(|settings| settings.name.clone()),
    })
}

/// The console's cookie, as a header sets it.
pub fn set_cookie(app: &App, value: &str, seconds: u64) -> String {
    cookie_for(app, COOKIE, value, seconds, SameSite::Strict)
}

/// A cookie for the service's pages, out of reach of scripts.
pub fn cookie_for(app: &App, name: &str, value: &str, seconds: u64, same_site: SameSite) -> String {
    let base = app.config.base_path();
    let path = if base.is_empty() {
        "/".to_owned()
    } else {
        base
    };
    Cookie::build((name, value))
        .path(path)
        .max_age(time::Duration::seconds(
            i64::try_from(seconds).unwrap_or(i64::MAX),
        ))
        .http_only(true)
        .same_site(same_site)
        .secure(app.public_url.starts_with("https://"))
        .build()
        .to_string()
}
