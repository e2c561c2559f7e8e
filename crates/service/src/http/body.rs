//! Reading what was sent, with errors that name the field.

use super::answer::Failure;
use axum::body::Bytes;
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::middleware::Next;
use axum::response::Response;
use serde::de::DeserializeOwned;
use serde_json::Value;

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
    if has_nul(bytes) {
        let failure = Failure::unreadable(
            StatusCode::UNPROCESSABLE_ENTITY,
            "the body contains the character U+0000, which cannot be stored: remove it",
        );
        return Err(match field_with_nul(bytes) {
            Some(field) => failure.field(&field),
            None => failure,
        });
    }
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

/// Whether JSON contains the character U+0000, which a string can only have as an escape sequence.
fn has_nul(json: &[u8]) -> bool {
    const ESCAPE: &[u8] = b"\\u0000";
    let mut places = json.windows(ESCAPE.len()).enumerate();
    places.any(|(at, window)| {
        let before = json.get(..at).unwrap_or_default().iter().rev();
        // After an odd number of backslashes this one is escaped itself.
        window == ESCAPE
            && before
                .take_while(|byte| **byte == b'\\')
                .count()
                .is_multiple_of(2)
    })
}

/// The path of the first value of a JSON object that contains the character U+0000, written as
/// in the other errors: `variables.X`, `labels[0]`. A name with the character is not printed:
/// the path ends at its object.
fn field_with_nul(json: &[u8]) -> Option<String> {
    let mut value = &serde_json::from_slice::<Value>(json).ok()?;
    let mut path = String::new();
    loop {
        let inner = match value {
            Value::Object(fields) => {
                fields
                    .iter()
                    .find(|(_, inner)| contains_nul(inner))
                    .map(|(name, inner)| {
                        let dot = if path.is_empty() { "" } else { "." };
                        (format!("{dot}{name}"), inner)
                    })
            }
            Value::Array(items) => items
                .iter()
                .enumerate()
                .find(|(_, inner)| contains_nul(inner))
                .map(|(index, inner)| (format!("[{index}]"), inner)),
            _ => None,
        };
        match inner {
            Some((step, next)) => {
                path.push_str(&step);
                value = next;
            }
            None => return Some(path).filter(|path| !path.is_empty()),
        }
    }
}

fn contains_nul(value: &Value) -> bool {
    has_nul(value.to_string().as_bytes())
}

/// Refuses addresses with the character U+0000 in them: nothing is called so.
pub async fn refuse_nul(request: Request, next: Next) -> Result<Response, Failure> {
    let uri = request.uri();
    if uri.path().contains("%00") || uri.query().is_some_and(|query| query.contains("%00")) {
        return Err(Failure::unreadable(
            StatusCode::BAD_REQUEST,
            "the address contains the character U+0000 (%00): remove it",
        ));
    }
    Ok(next.run(request).await)
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

#[cfg(test)]
mod tests {
    use super::{field_with_nul, has_nul};

    #[test]
    fn only_an_escape_sequence_is_the_character() {
        for (json, expected) in [
            (r#"{"a": "b\u0000"}"#, true),
            (r#""\\\u0000""#, true),
            (r#""\\u0000""#, false),
            (r#""u0000 \u0001""#, false),
            ("", false),
        ] {
            assert_eq!(has_nul(json.as_bytes()), expected, "{json}");
        }
    }

    #[test]
    fn the_path_leads_to_the_value_with_the_character() {
        for (json, expected) in [
            (r#"{"a": "b\u0000"}"#, Some("a")),
            (
                r#"{"x": 1, "variables": {"X": "\u0000"}}"#,
                Some("variables.X"),
            ),
            (
                r#"{"jobs": [{"name": "a"}, {"labels": ["\u0000"]}]}"#,
                Some("jobs[1].labels[0]"),
            ),
            (r#"{"variables": {"a\u0000": "b"}}"#, Some("variables")),
            (r#""\u0000""#, None),
        ] {
            assert_eq!(
                field_with_nul(json.as_bytes()).as_deref(),
                expected,
                "{json}"
            );
        }
    }
}
