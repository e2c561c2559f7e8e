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
                format!("the body does not fit: {inner}"),
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

/// The longest name of anything, in characters.
const NAME_LENGTH: usize = 63;

/// Checks the name of something to be made.
pub fn check_name(field: &str, name: &str) -> Result<(), Failure> {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    if name.is_empty()
        || name.len() > NAME_LENGTH
        || !name.chars().all(fits)
        || name.starts_with(['-', '.'])
    {
        return Err(Failure::invalid(
            field,
            format!(
                "a name is 1 to {NAME_LENGTH} letters, digits, -, _ or . and begins with a letter or a digit; got {name:?}"
            ),
        ));
    }
    Ok(())
}

/// Checks labels and folds them to lower case.
pub fn check_labels(field: &str, labels: &[String]) -> Result<Vec<String>, Failure> {
    if labels.len() > 64 {
        return Err(Failure::invalid(field, "at most 64 labels"));
    }
    let mut folded = Vec::with_capacity(labels.len());
    for (i, label) in labels.iter().enumerate() {
        check_name(&format!("{field}[{i}]"), label)?;
        let label = label.to_lowercase();
        if ["and", "or", "not", "has"].contains(&label.as_str()) {
            let said =
                format!("{label} is a word of the requirement language and cannot be a label");
            return Err(Failure::invalid(&format!("{field}[{i}]"), said));
        }
        if !folded.contains(&label) {
            folded.push(label);
        }
    }
    Ok(folded)
}

/// Checks an environment variable.
pub fn check_variable(field: &str, name: &str, value: &str) -> Result<(), Failure> {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if name.is_empty() || !name.chars().all(fits) || name.starts_with(|c: char| c.is_ascii_digit())
    {
        let said = format!(
            "{name:?} is no name of a variable: letters, digits and _, not beginning with a digit"
        );
        return Err(Failure::invalid(field, said));
    }
    if value.contains('\0') {
        return Err(Failure::invalid(
            &format!("{field}.{name}"),
            "the value contains a NUL byte",
        ));
    }
    Ok(())
}

/// Checks the reason that somebody gives for what they do.
pub fn check_why(why: &str) -> Result<(), Failure> {
    if why.trim().is_empty() || why.len() > 500 {
        let said = "say in at most 500 bytes why; it is kept on the record";
        return Err(Failure::invalid("why", said));
    }
    Ok(())
}

/// Checks a description.
pub fn check_description(description: &str) -> Result<(), Failure> {
    if description.len() > 500 {
        return Err(Failure::invalid(
            "description",
            "a description has at most 500 bytes",
        ));
    }
    Ok(())
}
