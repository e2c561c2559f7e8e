//! Errors as answers: the one place where they turn into RFC 9457 problems.

use crate::error::{ErrorKind, ServiceError};
use axum::Json;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::{OriginalUri, Request};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, IntoResponseParts, Response, ResponseParts};
use pennine_wire::Problem;
use std::convert::Infallible;
use std::time::Duration;

/// What a handler answers.
pub type Answer<T> = Result<T, ServiceError>;

/// An error answer of HTTP's own, or made from a [`ServiceError`]. Its status is never a success.
#[derive(Debug)]
pub struct Failure {
    problem: Box<Problem>,
    retry_after: Option<Duration>,
}

impl Failure {
    fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        let problem = Box::new(Problem {
            kind: format!("/problems/{kind}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            instance: None,
            field: None,
            column: None,
            remedy: None,
            next_offset: None,
            version: None,
        });
        Failure {
            problem,
            retry_after: None,
        }
    }

    /// The request cannot be read.
    pub fn unreadable(status: StatusCode, detail: impl Into<String>) -> Self {
        Failure::new(
            status,
            "unreadable-request",
            "The request cannot be read",
            detail,
        )
    }
}

impl Failure {
    /// The status.
    #[cfg(test)]
    pub fn status(&self) -> StatusCode {
        StatusCode::from_u16(self.problem.status).unwrap_or_default()
    }

    /// Names the field at fault.
    pub fn field(mut self, field: &str) -> Self {
        self.problem.field = Some(field.to_owned());
        self
    }

    /// Says what to do.
    fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.problem.remedy = Some(remedy.into());
        self
    }
}

impl From<ServiceError> for Failure {
    fn from(error: ServiceError) -> Self {
        let details = error.into_details();
        let mut failure = Failure::new(
            status_of(details.kind),
            &details.code,
            &details.title,
            details.detail,
        );
        failure.problem.field = details.field;
        failure.problem.column = details.column;
        failure.problem.remedy = details.remedy;
        failure.problem.next_offset = details.next_offset;
        failure.problem.version = details.version;
        failure.retry_after = details.retry_after;
        failure
    }
}

fn status_of(kind: ErrorKind) -> StatusCode {
    match kind {
        ErrorKind::Invalid => StatusCode::UNPROCESSABLE_ENTITY,
        ErrorKind::NotFound => StatusCode::NOT_FOUND,
        ErrorKind::Conflict => StatusCode::CONFLICT,
        ErrorKind::Stale => StatusCode::PRECONDITION_FAILED,
        ErrorKind::Unauthenticated => StatusCode::UNAUTHORIZED,
        ErrorKind::Forbidden => StatusCode::FORBIDDEN,
        ErrorKind::Gone => StatusCode::GONE,
        ErrorKind::Unavailable => StatusCode::SERVICE_UNAVAILABLE,
        ErrorKind::Busy => StatusCode::SERVICE_UNAVAILABLE,
        ErrorKind::TooMany => StatusCode::TOO_MANY_REQUESTS,
        ErrorKind::Internal => StatusCode::INTERNAL_SERVER_ERROR,
    }
}

impl IntoResponse for ServiceError {
    fn into_response(self) -> Response {
        Failure::from(self).into_response()
    }
}

/// What [`finish_problem`] still has to write out.
#[derive(Clone)]
struct Unwritten(Box<Problem>);

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.problem.status)
            .ok()
            .filter(|status| status.is_client_error() || status.is_server_error())
            .unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = status.into_response();
        if status == StatusCode::UNAUTHORIZED {
            response
                .headers_mut()
                .insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        if let Some(pause) = self.retry_after {
            let seconds = pause.as_secs() + u64::from(pause.subsec_nanos() > 0);
            response
                .headers_mut()
                .insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        response.extensions_mut().insert(Unwritten(self.problem));
        response
    }
}

/// Writes a problem out with the request's id, and turns bare errors of the layers below into problems.
pub fn finish_problem<B>(response: axum::http::Response<B>) -> Response
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<axum::BoxError>,
{
    let mut response = response.map(Body::new);
    let id = response
        .headers()
        .get("x-request-id")
        .and_then(|id| id.to_str().ok())
        .map(str::to_owned);
    let status = response.status();
    let unwritten = response
        .extensions_mut()
        .remove::<Unwritten>()
        .map(|unwritten| unwritten.0);
    let problem = match unwritten {
        Some(problem) => Some(problem),
        None if status == StatusCode::REQUEST_TIMEOUT => Some(
            Failure::new(
                status,
                "too-slow",
                "Request timeout",
                "the request timed out",
            )
            .remedy("try again; if it happens often, the service is overloaded")
            .problem,
        ),
        None if status == StatusCode::PAYLOAD_TOO_LARGE => Some(
            Failure::new(
                status,
                "too-large",
                "The request is too large",
                "the request's body is larger than allowed",
            )
            .problem,
        ),
        None if status.is_client_error() && !is_problem(&response) => {
            Some(Failure::unreadable(status, status.to_string()).problem)
        }
        None => None,
    };
    let Some(mut problem) = problem else {
        return response;
    };
    problem.instance = id;
    let (mut parts, _) = response.into_parts();
    parts.headers.remove(header::CONTENT_LENGTH);
    parts.headers.insert(
        header::CONTENT_TYPE,
        HeaderValue::from_static("application/problem+json"),
    );
    if status == StatusCode::PAYLOAD_TOO_LARGE {
        // The rest of the body is not read, so this connection carries no other request.
        parts
            .headers
            .insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    let body = serde_json::to_vec(&problem).unwrap_or_default();
    Response::from_parts(parts, Body::from(body))
}

fn is_problem(response: &Response) -> bool {
    response
        .headers()
        .get(header::CONTENT_TYPE)
        .is_some_and(|kind| kind.as_bytes().starts_with(b"application/problem"))
}

/// The answer below `/api` to a path that is not there.
pub async fn no_such_path(OriginalUri(uri): OriginalUri) -> Failure {
    Failure::new(
        StatusCode::NOT_FOUND,
        "unknown-path",
        "Not found",
        format!("no resource at {}", uri.path()),
    )
    .remedy("/api/v1/openapi.json lists all resources")
}

/// The answer to a method that a path does not have. axum sets `Allow`.
pub async fn wrong_method(request: Request) -> Failure {
    Failure::new(
        StatusCode::METHOD_NOT_ALLOWED,
        "wrong-method",
        "Method not allowed",
        format!(
            "{} does not support {}; the Allow header lists the supported methods",
            request.uri().path(),
            request.method()
        ),
    )
}

/// The answer when a handler panicked: a defect of ours.
pub fn panicked(cause: Box<dyn std::any::Any + Send + 'static>) -> Response {
    let message = cause
        .downcast_ref::<String>()
        .map(String::as_str)
        .or_else(|| cause.downcast_ref::<&str>().copied())
        .unwrap_or("no message");
    ServiceError::ours(&std::io::Error::other(format!(
        "a handler panicked: {message}"
    )))
    .into_response()
}

/// Marks an answer that holds a secret, which is shown once and kept nowhere.
#[derive(Clone, Copy, Debug)]
pub struct HoldsSecret;

impl IntoResponseParts for HoldsSecret {
    type Error = Infallible;

    fn into_response_parts(self, mut response: ResponseParts) -> Result<ResponseParts, Infallible> {
        response.extensions_mut().insert(self);
        Ok(response)
    }
}

/// 201 with a thing that holds a secret, shown this once.
pub fn created_secret<T: serde::Serialize>(made: T) -> (StatusCode, HoldsSecret, Json<T>) {
    (StatusCode::CREATED, HoldsSecret, Json(made))
}

/// 201 with the thing that was made.
pub fn created<T: serde::Serialize>(made: T) -> (StatusCode, Json<T>) {
    (StatusCode::CREATED, Json(made))
}
