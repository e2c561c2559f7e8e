//! Errors as answers: the one place where they turn into RFC 9457 problems.

use axum::Json;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::{OriginalUri, Request};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use pennine_core::requirement::SyntaxError;
use pennine_wire::Problem;

/// What a handler answers.
pub type Answer<T> = Result<T, Failure>;

/// An error answer. Its status is never a success, and what only we may know of it goes to the log.
#[derive(Debug)]
pub struct Failure(Box<Problem>);

impl Failure {
    fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Failure(Box::new(Problem {
            kind: format!("/problems/{kind}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            instance: None,
            field: None,
            column: None,
            mend: None,
            next_offset: None,
        }))
    }

    /// The request is wrong in one field.
    pub fn invalid(field: &str, detail: impl Into<String>) -> Self {
        Failure::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "invalid-field",
            "A field is wrong",
            detail,
        )
        .field(field)
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

    /// A requirement cannot be read.
    pub fn requirement(field: &str, error: SyntaxError) -> Self {
        let mut failure = Failure::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "wrong-requirement",
            "The requirement cannot be read",
            format!("column {}: {}", error.column, error.message),
        )
        .field(field);
        failure.0.column = Some(error.column);
        failure
    }

    /// There is no such thing.
    pub fn unknown(noun: &str, name: &str) -> Self {
        let mut failure = Failure::new(
            StatusCode::NOT_FOUND,
            &format!("unknown-{noun}"),
            &format!("There is no such {noun}"),
            format!("there is no {noun} {name:?}"),
        );
        if [
            "job", "machine", "pool", "project", "runner", "supplier", "team",
        ]
        .contains(&noun)
        {
            failure = failure.mend(format!("pennine {noun} list shows those that exist"));
        }
        failure
    }

    /// The name stands for several things.
    pub fn ambiguous(noun: &str, name: &str, choices: &[String]) -> Self {
        Failure::new(
            StatusCode::CONFLICT,
            "ambiguous-name",
            "The name stands for several things",
            format!("{name:?} is the name of several: {}", choices.join(", ")),
        )
        .mend(format!("name the {noun} by one of these"))
    }

    /// It clashes with what is there.
    pub fn conflict(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Failure::new(StatusCode::CONFLICT, kind, title, detail)
    }

    /// Something has that name already.
    pub fn taken(detail: impl Into<String>) -> Self {
        Failure::conflict("exists-already", "The name is taken", detail).field("name")
    }

    /// Nobody is signed in, or the token does not hold.
    pub fn unauthenticated(detail: impl Into<String>) -> Self {
        Failure::new(StatusCode::UNAUTHORIZED, "not-signed-in", "A valid token is needed", detail)
            .mend("send Authorization: Bearer TOKEN; the administrator's lies in admin.token in the service's data folder")
    }

    /// It is not allowed.
    pub fn forbidden(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Failure::new(StatusCode::FORBIDDEN, kind, title, detail)
    }

    /// It is over.
    pub fn gone(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Failure::new(StatusCode::GONE, kind, title, detail)
    }

    /// Names the field at fault.
    pub fn field(mut self, field: &str) -> Self {
        self.0.field = Some(field.to_owned());
        self
    }

    /// Says what to do.
    pub fn mend(mut self, mend: impl Into<String>) -> Self {
        self.0.mend = Some(mend.into());
        self
    }

    /// Says at which offset a log goes on.
    pub fn next_offset(mut self, offset: u64) -> Self {
        self.0.next_offset = Some(offset);
        self
    }
}

impl From<pennine_store::Error> for Failure {
    fn from(error: pennine_store::Error) -> Self {
        use pennine_store::Error as E;
        match error {
            E::Unreachable(_) | E::TooSlow(_) => {
                tracing::warn!(%error, "a request failed on the database");
                Failure::new(
                    StatusCode::SERVICE_UNAVAILABLE,
                    "database-away",
                    "The database does not answer",
                    "the service cannot reach its database just now; nothing was changed that was not answered",
                )
                .mend("try again in a moment; /readyz tells when it is back")
            }
            E::Duplicate(constraint) => Failure::conflict(
                "exists-already",
                "There is one already",
                format!("something like it exists already ({constraint})"),
            ),
            E::Newer(_) | E::Refused(_) => Failure::ours(&error),
        }
    }
}

impl From<crate::log_store::LogError> for Failure {
    fn from(error: crate::log_store::LogError) -> Self {
        match error {
            crate::log_store::LogError::Record(error) => error.into(),
            error => Failure::ours(&error),
        }
    }
}

impl Failure {
    /// A failure of ours: the cause goes to the log only.
    pub fn ours(error: &dyn std::error::Error) -> Self {
        tracing::error!(error = %error, "a request failed inside the service");
        Failure::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "The service failed",
            "the service failed while it worked on this request; its log says why, under the request's id",
        )
    }
}

/// What [`finish_problem`] still has to write out.
#[derive(Clone)]
struct Unwritten(Box<Problem>);

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status)
            .ok()
            .filter(|status| status.is_client_error() || status.is_server_error())
            .unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = status.into_response();
        if status == StatusCode::UNAUTHORIZED {
            response
                .headers_mut()
                .insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response.extensions_mut().insert(Unwritten(self.0));
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
                "The request took too long",
                "the request was not answered in time",
            )
            .mend("try again; if it happens often, the service is overloaded")
            .0,
        ),
        None if status == StatusCode::PAYLOAD_TOO_LARGE => Some(
            Failure::new(
                status,
                "too-large",
                "The request is too large",
                "the request's body is larger than allowed",
            )
            .0,
        ),
        None if status.is_client_error() && !is_problem(&response) => {
            Some(Failure::unreadable(status, status.to_string()).0)
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
        "There is nothing at this address",
        format!("there is nothing at {}", uri.path()),
    )
    .mend("/api/v1/openapi.json lists what there is")
}

/// The answer to a method that a path does not have. axum sets `Allow`.
pub async fn wrong_method(request: Request) -> Failure {
    Failure::new(
        StatusCode::METHOD_NOT_ALLOWED,
        "wrong-method",
        "This address does not take that method",
        format!(
            "{} does not take {}; the Allow header lists what it takes",
            request.uri().path(),
            request.method()
        ),
    )
}

/// The answer when a handler panicked: a defect of ours.
pub fn panicked(cause: Box<dyn std::any::Any + Send + 'static>) -> Response {
    let said = cause
        .downcast_ref::<String>()
        .map(String::as_str)
        .or_else(|| cause.downcast_ref::<&str>().copied())
        .unwrap_or("no message");
    Failure::ours(&std::io::Error::other(format!(
        "a handler panicked: {said}"
    )))
    .into_response()
}

/// 201 with the thing that was made.
pub fn created<T: serde::Serialize>(made: T) -> (StatusCode, Json<T>) {
    (StatusCode::CREATED, Json(made))
}
