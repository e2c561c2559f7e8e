//! Signing in through the OpenID provider: two pages that the browser is sent through.

use crate::access::Origin;
use crate::app::App;
use crate::error::ServiceError;
use crate::http::people::session::{cookie_for, set_cookie};
use crate::operations::people::provider;
use axum::Router;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use axum::routing::get;
use axum_extra::extract::CookieJar;
use axum_extra::extract::cookie::SameSite;
use serde::Deserialize;

/// The cookie that holds the state of a sign-in that has begun. The provider sends the browser back from its own site, so that it is
/// not a strict one; it is of no use for anything else.
const PENDING: &str = "pennine_openid";
/// How long it holds, in seconds.
const PENDING_SECONDS: u64 = 600;

/// The two pages.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/sign-in/openid", get(begin))
        .route("/sign-in/openid/callback", get(complete))
}

fn redirect(to: &str, cookies: Vec<String>) -> Response {
    let cookies = cookies
        .into_iter()
        .map(|cookie| (header::SET_COOKIE, cookie));
    let to = [(header::LOCATION, to.to_owned())];
    (
        StatusCode::SEE_OTHER,
        to,
        AppendHeaders(cookies.collect::<Vec<_>>()),
    )
        .into_response()
}

/// The console's sign-in page, with why the sign-in failed.
fn failed(app: &App, error: &ServiceError, cookies: Vec<String>) -> Response {
    let code = &error.details().code;
    redirect(
        &format!("{}/?sign_in={code}", app.config.base_path()),
        cookies,
    )
}

async fn begin(State(app): State<App>) -> Response {
    match provider::begin(&app).await {
        Ok((url, pending)) => {
            let cookie = cookie_for(&app, PENDING, &pending, PENDING_SECONDS, SameSite::Lax);
            redirect(&url, vec![cookie])
        }
        Err(error) => failed(&app, &error, Vec::new()),
    }
}

/// What the provider sends with the browser.
#[derive(Deserialize)]
struct Returned {
    #[serde(default)]
    state: String,
    #[serde(default)]
    code: String,
}

async fn complete(
    State(app): State<App>,
    origin: Origin,
    headers: HeaderMap,
    Query(returned): Query<Returned>,
) -> Response {
    let cookies = CookieJar::from_headers(&headers);
    let pending = cookies.get(PENDING).map(|cookie| cookie.value().to_owned());
    // It is used once, whatever comes of it.
    let used = cookie_for(&app, PENDING, "", 0, SameSite::Lax);
    let Returned { state, code } = &returned;
    match provider::complete(&app, pending.as_deref(), state, code, &origin).await {
        Ok(begun) => {
            let session = set_cookie(&app, &begun.cookie, begun.lifetime.as_secs());
            redirect(&format!("{}/", app.config.base_path()), vec![used, session])
        }
        Err(error) => failed(&app, &error, vec![used]),
    }
}
