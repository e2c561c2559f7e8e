//! Writes that carry an Idempotency-Key are made once, however often they are sent.

use super::answer::{Failure, HoldsSecret};
use super::upload;
use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use crate::operations::installation::idempotency::{self, EarlierAnswer, KeyedWrite};
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
    let request = Request::from_parts(parts.clone(), body);
    let sent = upload::read(app, request, app.config.limits.body_bytes).await?;
    let mut hash = Sha256::new();
    hash.update(parts.uri.path().as_bytes());
    hash.update([0]);
    hash.update(&sent.bytes);
    let hash = hash.finalize().to_vec();
    let planned = match idempotency::begin(app, principal, &key, &hash).await? {
        KeyedWrite::Make(planned) => planned,
        KeyedWrite::Made(earlier) => return Ok(repeat(earlier)),
    };
    let mut request = Request::from_parts(parts, Body::from(sent.bytes.clone()));
    request.extensions_mut().insert(planned);
    // A task of its own: a client that goes away does not end the write between its two ends.
    let (app, principal) = (app.clone(), principal.clone());
    let made = tokio::spawn(async move { make(&app, &principal, &key, request, next).await });
    made.await.map_err(|e| ServiceError::ours(&e))?
}

/// Makes the write and keeps its answer.
async fn make(
    app: &App,
    principal: &Principal,
    key: &str,
    request: Request,
    next: Next,
) -> Result<Response, Failure> {
    let response = next.run(request).await;
    let (parts, body) = response.into_parts();
    let body = to_bytes(body, ANSWER_BYTES)
        .await
        .map_err(|e| ServiceError::ours(&e))?;
    if parts.status.is_success() {
        let status = parts.status.as_u16();
        let holds_secret = parts.extensions.get::<HoldsSecret>().is_some();
        let kept = (!holds_secret).then_some(&*body);
        idempotency::finish(app, principal, key, status, kept).await?;
    } else {
        idempotency::forget(app, principal, key).await?;
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
