//! Who asks: a bearer token, or the console's cookie.

use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use crate::operations::people::session;
use crate::settings_version::ExpectedVersion;
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum_extra::extract::CookieJar;
use axum_extra::headers::HeaderMapExt;
use axum_extra::headers::authorization::{Authorization, Bearer};
use std::convert::Infallible;

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

/// Authenticates a request. Only signing in needs no authentication. Refusals are recorded.
pub async fn authenticate(State(app): State<App>, mut request: Request, next: Next) -> Response {
    let what = format!("{} {}", request.method(), request.uri().path());
    let signing_in = request.uri().path() == "/session" && request.method() == Method::POST;
    let headers = request.headers().clone();
    let safe = request.method().is_safe();
    match identify(&app, &headers, safe).await {
        Ok(principal) => {
            request.extensions_mut().insert(principal.clone());
            let response = next.run(request).await;
            if response.status() == StatusCode::FORBIDDEN {
                session::note_refusal(&app, Some(&principal), &what).await;
            }
            response
        }
        Err(_) if signing_in => {
            let response = next.run(request).await;
            if response.status() == StatusCode::UNAUTHORIZED {
                session::note_refusal(&app, None, &what).await;
            }
            response
        }
        Err(failure) => failure.into_response(),
    }
}

async fn identify(app: &App, headers: &HeaderMap, safe: bool) -> Result<Principal, ServiceError> {
    if let Some(secret) = bearer(headers) {
        return session::by_token(app, &secret).await;
    }
    let Some(secret) = cookie(headers) else {
        return Err(ServiceError::unauthenticated(
            "the request carries no token",
        ));
    };
    // A cookie comes along by itself, so a write must come from our own page.
    let own_page = matches!(
        headers.get("sec-fetch-site").map(|v| v.as_bytes()),
        Some(b"same-origin" | b"none")
    );
    if !safe && !own_page {
        return Err(ServiceError::forbidden(
            "foreign-page",
            "The request comes from another site",
            "writes with the console's cookie are accepted only from the console's own pages",
        ));
    }
    session::by_cookie(app, &secret).await
}
