//! Reading what was sent, with errors that name the field.

use super::answer::Failure;
use axum::body::Bytes;
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::StatusCode;
use axum::http::request::Parts;
use serde::de::DeserializeOwned;

/// A JSON body.
pub struct JsonBody<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for JsonBody<T> {
    type Rejection = Failure;

    async fn from_request(request: Request, state: &S) -> Result<Self, Failure> {
        let bytes = Bytes::from_request(request, state)
            .await
            .map_err(|e| Failure::unreadable(e.status(), e.body_text()))?;
        read(&bytes).map(JsonBody)
    }
}

/// Reads JSON, with the path of what is wrong.
pub fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Failure> {
    let mut from = serde_json::Deserializer::from_slice(bytes);
    serde_path_to_error::deserialize(&mut from).map_err(|error| {
        let path = error.path().to_string();
        let inner = error.into_inner();
        let failure = match inner.classify() {
            serde_json::error::Category::Data => Failure::unreadable(
                StatusCode::UNPROCESSABLE_ENTITY,
                format!("invalid body: {inner}"),
            ),
            _ => Failure::unreadable(
                StatusCode::BAD_REQUEST,
                format!("the body is not JSON: {inner}"),
            ),
        };
        if path == "." {
            failure
        } else {
            failure.field(&path)
        }
    })
}

/// Query parameters.
pub struct Params<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Params<T> {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Failure> {
        Query::<T>::from_request_parts(parts, state)
            .await
            .map(|Query(params)| Params(params))
            .map_err(|e| Failure::unreadable(StatusCode::BAD_REQUEST, e.body_text()))
    }
}
