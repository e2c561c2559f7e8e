//! Who asks: a bearer token, or the console's cookie.

use crate::access::{Origin, Principal};
use crate::app::App;
use crate::error::ServiceError;
use crate::http::accept::Peer;
use crate::operations::people::session;
use crate::settings_version::ExpectedVersion;
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{Extensions, HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum_extra::extract::CookieJar;
use axum_extra::headers::HeaderMapExt;
use axum_extra::headers::authorization::{Authorization, Bearer};
use pennine_core::access::Action;
use std::convert::Infallible;
use std::time::Duration;
use tower_http::request_id::RequestId;

/// The name of the console's cookie.
pub const COOKIE: &str = "pennine_session";

impl<S: Send + Sync> FromRequestParts<S> for Principal {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ServiceError> {
        parts
            .extensions
            .get::<Principal>()
            .cloned()
            .ok_or_else(|| ServiceError::unauthenticated("not signed in"))
    }
}

impl<S: Send + Sync> FromRequestParts<S> for ExpectedVersion {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let header = parts.headers.get(header::IF_MATCH);
        Ok(ExpectedVersion::of(
            header.and_then(|value| value.to_str().ok()),
        ))
    }
}

/// The id of a request, as the answer carries it.
fn request_id(extensions: &Extensions) -> Option<String> {
    let id = extensions.get::<RequestId>()?.header_value();
    Some(id.to_str().ok()?.to_owned())
}

impl FromRequestParts<App> for Origin {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Infallible> {
        let Peer(address) = Peer::from_request_parts(parts, app).await?;
        let agent = parts.headers.get(header::USER_AGENT);
        let agent = agent.map(|value| String::from_utf8_lossy(value.as_bytes()).replace('\0', ""));
        Ok(Origin {
            request: request_id(&parts.extensions),
            address,
            user_agent: agent.unwrap_or_default(),
        })
    }
}

/// Returns the bearer token in the headers (RFC 6750).
pub fn bearer(headers: &HeaderMap) -> Option<String> {
    let authorization = headers.typed_get::<Authorization<Bearer>>()?;
    Some(authorization.token().trim().to_owned())
}

/// Returns the value of the console's cookie in the headers (RFC 6265).
pub fn cookie(headers: &HeaderMap) -> Option<String> {
    let cookies = CookieJar::from_headers(headers);
    Some(cookies.get(COOKIE)?.value().to_owned())
}

/// What needs no authentication: signing in.
const OPEN: [(Method, &str); 4] = [
    (Method::POST, "/session"),
    (Method::POST, "/session/link"),
    (Method::POST, "/session/link/use"),
    (Method::GET, "/session/options"),
];

/// Authenticates a request. Refusals are recorded.
pub async fn authenticate(
    State(app): State<App>,
    origin: Origin,
    mut request: Request,
    next: Next,
) -> Response {
    let what = format!("{} {}", request.method(), request.uri().path());
    let mut open = OPEN.iter();
    let is_open =
        open.any(|(method, path)| request.method() == method && request.uri().path() == *path);
    let headers = request.headers().clone();
    let safe = request.method().is_safe();
    let identified = identify(&app, &headers, safe, Peer(origin.address)).await;
    let allowed = identified.and_then(|principal| {
        let is_own = matches!(
            request.uri().path(),
            "/session" | "/session/options" | "/account"
        );
        if safe && !is_own {
            principal.require_anywhere(reading(&request))?;
        }
        Ok(principal)
    });
    match allowed {
        Ok(mut principal) => {
            principal.actor.address = origin.shown();
            principal.actor.request.clone_from(&origin.request);
            request.extensions_mut().insert(principal.clone());
            let response = next.run(request).await;
            if response.status() == StatusCode::FORBIDDEN {
                session::note_refusal(&app, Some(&principal), &what, &origin).await;
            }
            response
        }
        Err(_) if is_open => next.run(request).await,
        Err(failure) => failure.into_response(),
    }
}

/// What a request that changes nothing does. What it shows of which place is not narrowed here.
fn reading(request: &Request) -> Action {
    match request.uri().path() {
        "/metrics" => Action::ReadMetrics,
        _ => Action::View,
    }
}

/// How often a request that stays open is authenticated again.
const AGAIN: Duration = Duration::from_secs(5);

/// Completes when the token or the sign-in of an open request is no longer valid.
pub async fn until_signed_out(app: App, headers: HeaderMap, peer: Peer) {
    loop {
        tokio::time::sleep(AGAIN).await;
        let identified = identify(&app, &headers, true, peer).await;
        if identified.is_err_and(|error| error.is_unauthenticated()) {
            return;
        }
    }
}

async fn identify(
    app: &App,
    headers: &HeaderMap,
    safe: bool,
    Peer(peer): Peer,
) -> Result<Principal, ServiceError> {
    if let Some(secret) = bearer(headers) {
        return session::by_token(app, &secret, peer).await;
    }
    let Some(secret) = cookie(headers) else {
        return Err(ServiceError::unauthenticated(
            "the request carries no token",
        ));
    };
    // A cookie comes along by itself, so a write must come from our own page.
    if !safe && !is_own_page(headers, &app.public_url) {
        return Err(ServiceError::forbidden(
            "foreign-page",
            "The request comes from another site",
            "writes with the console's cookie are accepted only from the console's own pages",
        ));
    }
    session::by_cookie(app, &secret, peer).await
}

/// Whether a request comes from a page of the console. Browsers say so with Sec-Fetch-Site (W3C Fetch Metadata), but not
/// over plain HTTP off loopback: there the origin (RFC 6454) must be the address that was asked, or the public one.
fn is_own_page(headers: &HeaderMap, public_url: &str) -> bool {
    if let Some(site) = headers.get("sec-fetch-site") {
        return matches!(site.as_bytes(), b"same-origin" | b"none");
    }
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    let Some((_, origin)) = text(header::ORIGIN).and_then(|origin| origin.split_once("://")) else {
        return false;
    };
    let public = public_url.split_once("://").map_or("", |(_, rest)| rest);
    let public = public.split('/').next().unwrap_or_default();
    text(header::HOST).is_some_and(|host| host.eq_ignore_ascii_case(origin))
        || public.eq_ignore_ascii_case(origin)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn is_own(pairs: &[(&'static str, &'static str)]) -> bool {
        let headers = pairs.iter().map(|(name, value)| {
            let name = header::HeaderName::from_static(name);
            (name, header::HeaderValue::from_static(value))
        });
        is_own_page(&headers.collect(), "https://ci.example/base")
    }

    #[test]
    fn a_page_is_our_own_by_what_the_browser_says_or_else_by_its_origin() {
        assert!(is_own(&[("sec-fetch-site", "same-origin")]));
        assert!(is_own(&[("sec-fetch-site", "none")]));
        let foreign = ("sec-fetch-site", "cross-site");
        assert!(!is_own(&[foreign, ("origin", "https://ci.example")]));
        let host = ("host", "10.0.0.7:8470");
        assert!(is_own(&[host, ("origin", "http://10.0.0.7:8470")]));
        assert!(!is_own(&[host, ("origin", "http://10.0.0.7:8471")]));
        // Behind a proxy that sets another host.
        assert!(is_own(&[host, ("origin", "https://ci.example")]));
        assert!(!is_own(&[host, ("origin", "https://ci.example.evil.test")]));
        assert!(!is_own(&[host, ("origin", "null")]));
        assert!(!is_own(&[host]));
        assert!(!is_own(&[]));
    }
}
