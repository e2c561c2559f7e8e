//! Writes that carry an Idempotency-Key are made once, however often they are sent.

use super::answer::Failure;
use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use axum::body::{Body, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use pennine_store::idempotency::{self, Kept};
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
    let mut connection = app.store.get().await?;
    match idempotency::begin(
        &mut connection,
        principal.token,
        &key,
        &hash,
        app.clock.now(),
    )
    .await?
    {
        Some(kept) => return repeat(kept, &hash),
        None => drop(connection),
    }
    let response = next
        .run(Request::from_parts(parts, Body::from(bytes)))
        .await;
    let (parts, body) = response.into_parts();
    let body = to_bytes(body, ANSWER_BYTES)
        .await
        .map_err(|e| ServiceError::ours(&e))?;
    let mut connection = app.store.get().await?;
    if parts.status.is_success() {
        idempotency::finish(
            &mut connection,
            principal.token,
            &key,
            parts.status.as_u16(),
            &body,
        )
        .await?;
    } else {
        idempotency::forget(&mut connection, principal.token, &key).await?;
    }
    Ok(Response::from_parts(parts, Body::from(body)))
}

fn repeat(kept: Kept, hash: &[u8]) -> Result<Response, Failure> {
    if kept.body_hash != hash {
        return Err(Failure::from(ServiceError::invalid(
            "Idempotency-Key",
            "this key was used for another request; use a new key for a new request",
        )));
    }
    let status = kept.status.and_then(|status| u16::try_from(status).ok());
    match (
        status.and_then(|status| StatusCode::from_u16(status).ok()),
        kept.answer,
    ) {
        (Some(status), Some(answer)) => {
            let mut response = (status, answer).into_response();
            let headers = response.headers_mut();
            headers.insert(
                header::CONTENT_TYPE,
                HeaderValue::from_static("application/json"),
            );
            headers.insert("idempotency-replayed", HeaderValue::from_static("true"));
            Ok(response)
        }
        _ => Err(Failure::from(ServiceError::conflict(
            "still-in-progress",
            "The first request with this key is still in progress",
            "wait for its answer, or ask again in a moment",
        ))),
    }
}
