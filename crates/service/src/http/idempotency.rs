//! Writes that carry an Idempotency-Key are made once, however often they are sent.

use super::answer::Failure;
use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use crate::operations::installation::idempotency::{self, EarlierAnswer};
use axum::body::{Body, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use sha2::{Digest, Sha256};

/// The longest key, in characters.
const KEY_LENGTH: usize = 200;
/// The largest answer that is kept.
const ANSWER_BYTES: usize = 1 << 20;

/// Makes a write with a key once.
pub async fn once(State(app): State<App>, request: Request, next: Next) -> Response {
    let key = request
        .headers()
        .get("idempotency-key")
        .and_then(|key| key.to_str().ok())
        .map(str::to_owned);
    let principal = request.extensions().get::<Principal>().cloned();
    match (key, principal) {
        (Some(key), Some(principal)) if request.method() == Method::POST => {
            match keyed(&app, &principal, &key, request, next).await {
                Ok(response) => response,
                Err(failure) => failure.into_response(),
            }
        }
        _ => next.run(request).await,
    }
}

async fn keyed(
    app: &App,
    principal: &Principal,
    key: &str,
    request: Request,
    next: Next,
) -> Result<Response, Failure> {
    // A structured string (RFC 8941): quoted. A bare word is taken as well.
    let key = key
        .strip_prefix('"')
        .and_then(|key| key.strip_suffix('"'))
        .unwrap_or(key)
        .to_owned();
    if key.is_empty() || key.len() > KEY_LENGTH {
        return Err(Failure::from(ServiceError::invalid(
            "Idempotency-Key",
            format!("a key has 1 to {KEY_LENGTH} characters"),
        )));
    }
    let (parts, body) = request.into_parts();
    let bytes = to_bytes(body, app.config.limits.body_bytes)
        .await
        .map_err(|_| Failure::unreadable(StatusCode::PAYLOAD_TOO_LARGE, "the body is too large"))?;
    let mut hash = Sha256::new();
    hash.update(parts.uri.path().as_bytes());
    hash.update([0]);
    hash.update(&bytes);
    let hash = hash.finalize().to_vec();
    if let Some(earlier) = idempotency::begin(app, principal, &key, &hash).await? {
        return Ok(repeat(earlier));
    }
    let response = next
        .run(Request::from_parts(parts, Body::from(bytes)))
        .await;
    let (parts, body) = response.into_parts();
    let body = to_bytes(body, ANSWER_BYTES)
        .await
        .map_err(|e| ServiceError::ours(&e))?;
    if parts.status.is_success() {
        let status = parts.status.as_u16();
        idempotency::finish(app, principal, &key, status, &body).await?;
    } else {
        idempotency::forget(app, principal, &key).await?;
    }
    Ok(Response::from_parts(parts, Body::from(body)))
}

fn repeat(earlier: EarlierAnswer) -> Response {
    let status = StatusCode::from_u16(earlier.status).unwrap_or_default();
    let mut response = (status, earlier.body).into_response();
    let headers = response.headers_mut();
    headers.insert(
        header::CONTENT_TYPE,
        HeaderValue::from_static("application/json"),
    );
    headers.insert("idempotency-replayed", HeaderValue::from_static("true"));
    response
}
