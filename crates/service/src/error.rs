//! The error of operations and views. It knows nothing of HTTP: `http::answer` turns it into a problem.

use crate::log_store::LogError;
use pennine_core::requirement::SyntaxError;
use std::fmt;
use std::time::Duration;

/// How long to wait before trying again where much is asked for at once.
const BUSY_PAUSE: Duration = Duration::from_secs(2);
/// Likewise where there is no space left.
const FULL_PAUSE: Duration = Duration::from_secs(15);

/// The outcome of an operation or a view.
pub type Result<T, E = ServiceError> = std::result::Result<T, E>;

/// The category of an error.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ErrorKind {
    /// A field is invalid.
    Invalid,
    /// Something named does not exist.
    NotFound,
    /// It conflicts with the present state.
    Conflict,
    /// The thing has changed since it was read.
    Stale,
    /// Not signed in, or the token is invalid.
    Unauthenticated,
    /// The caller lacks the permission.
    Forbidden,
    /// The thing no longer exists.
    Gone,
    /// The database or another part is unavailable.
    Unavailable,
    /// Too much of this is asked for at once: trying again later helps.
    Busy,
    /// This client has made too many failed attempts.
    TooMany,
    /// An internal error; the cause is only in the log.
    Internal,
}

/// An error of an operation or a view.
#[derive(Clone, PartialEq, Debug)]
pub struct ServiceError(Box<Details>);

/// The contents of an error.
#[derive(Clone, PartialEq, Debug)]
pub struct Details {
    pub kind: ErrorKind,
    /// A stable identifier for programs: `unknown-pool`.
    pub code: String,
    pub title: String,
    /// What is wrong, including the value.
    pub detail: String,
    /// The invalid field.
    pub field: Option<String>,
    /// The column of a requirement, from 1.
    pub column: Option<usize>,
    /// The remedy.
    pub remedy: Option<String>,
    /// The offset at which a log continues.
    pub next_offset: Option<u64>,
    /// The present version of the thing.
    pub version: Option<String>,
    /// How long to wait before trying again.
    pub retry_after: Option<Duration>,
}

impl fmt::Display for ServiceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.detail)
    }
}

impl ServiceError {
    fn new(kind: ErrorKind, code: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError(Box::new(Details {
            kind,
            code: code.to_owned(),
            title: title.to_owned(),
            detail: detail.into(),
            field: None,
            column: None,
            remedy: None,
            next_offset: None,
            version: None,
            retry_after: None,
        }))
    }

    /// Returns the contents.
    pub fn details(&self) -> &Details {
        &self.0
    }

    /// Returns the contents by value.
    pub fn into_details(self) -> Details {
        *self.0
    }

    /// A field is invalid.
    pub fn invalid(field: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Invalid, "invalid-field", "Invalid field", detail).field(field)
    }

    /// A requirement has a syntax error.
    pub fn requirement(field: &str, error: SyntaxError) -> Self {
        let mut failure = ServiceError::new(
            ErrorKind::Invalid,
            "wrong-requirement",
            "Invalid requirement",
            format!("column {}: {}", error.column, error.message),
        )
        .field(field);
        failure.0.column = Some(error.column);
        failure
    }

    /// Something named does not exist.
    pub fn unknown(noun: &str, name: &str) -> Self {
        let mut failure = ServiceError::new(
            ErrorKind::NotFound,
            &format!("unknown-{noun}"),
            &format!("Unknown {noun}"),
            format!("unknown {noun} {name:?}"),
        );
        if [
            "job", "machine", "pool", "project", "runner", "supplier", "team",
        ]
        .contains(&noun)
        {
            failure = failure.remedy(format!("pennine {noun} list shows the known ones"));
        }
        failure
    }

    /// The name is ambiguous.
    pub fn ambiguous(noun: &str, name: &str, choices: &[String]) -> Self {
        ServiceError::new(
            ErrorKind::Conflict,
            "ambiguous-name",
            "Ambiguous name",
            format!("{name:?} matches several: {}", choices.join(", ")),
        )
        .remedy(format!("use one of these names for the {noun}"))
    }

    /// It conflicts with the present state.
    pub fn conflict(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Conflict, kind, title, detail)
    }

    /// The thing has changed since it was read; `version` is its present version.
    pub fn stale(detail: impl Into<String>, version: String) -> Self {
        let mut error = ServiceError::new(
            ErrorKind::Stale,
            "changed-meanwhile",
            "Changed in the meantime",
            detail,
        );
        error.0.version = Some(version);
        error.remedy("read it again, and repeat the change if it still applies")
    }

    /// The name is taken.
    pub fn taken(detail: impl Into<String>) -> Self {
        ServiceError::conflict("exists-already", "The name is taken", detail).field("name")
    }

    /// Not signed in, or the token is invalid.
    pub fn unauthenticated(detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Unauthenticated, "not-signed-in", "A valid token is needed", detail)
            .remedy("send Authorization: Bearer TOKEN; the administrator's token is in admin.token in the service's data folder")
    }

    /// Name and password are right, and the account has a second factor.
    pub fn second_factor_needed() -> Self {
        let detail = "the account has a second factor: enter its code";
        let title = "A code is needed";
        ServiceError::new(
            ErrorKind::Unauthenticated,
            "second-factor-needed",
            title,
            detail,
        )
        .field("code")
        .remedy("enter the code that your authenticator shows, or one of your recovery codes")
    }

    /// Something is wrong here; the cause is only in the log.
    pub fn internal(cause: impl AsRef<str>) -> Self {
        tracing::error!(
            cause = cause.as_ref(),
            "a request failed inside the service"
        );
        ServiceError::new(
            ErrorKind::Internal,
            "internal",
            "Internal error",
            "details are in the service log under this request's id",
        )
    }

    /// The caller lacks the permission.
    pub fn forbidden(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Forbidden, kind, title, detail)
    }

    /// The thing no longer exists.
    pub fn gone(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Gone, kind, title, detail)
    }

    /// Sets the invalid field.
    pub fn field(mut self, field: &str) -> Self {
        self.0.field = Some(field.to_owned());
        self
    }

    /// Too much of this is asked for at once.
    pub fn busy(detail: impl Into<String>) -> Self {
        let mut error = ServiceError::new(ErrorKind::Busy, "busy", "The service is busy", detail)
            .remedy("try again in a moment");
        error.0.retry_after = Some(BUSY_PAUSE);
        error
    }

    /// There is no space left to store what was sent.
    pub fn full(detail: impl Into<String>) -> Self {
        let mut error = ServiceError::new(
            ErrorKind::Busy,
            "storage-full",
            "No space left",
            detail,
        )
        .remedy("free space, or keep history and logs for fewer days ([keep] in the configuration); what was refused is tried again by runners");
        error.0.retry_after = Some(FULL_PAUSE);
        error
    }

    /// The client has made too many failed attempts; another is welcome after this long.
    pub fn too_many(detail: impl Into<String>, retry_after: Duration) -> Self {
        let mut error = ServiceError::new(
            ErrorKind::TooMany,
            "too-many-attempts",
            "Too many failed attempts",
            detail,
        );
        error.0.retry_after = Some(retry_after);
        error
    }

    /// Says first what the error is about.
    pub fn about(mut self, what: &str) -> Self {
        self.0.detail = format!("{what}: {}", self.0.detail);
        self
    }

    /// Sets the remedy.
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.0.remedy = Some(remedy.into());
        self
    }

    /// Sets the offset at which a log continues.
    pub fn next_offset(mut self, offset: u64) -> Self {
        self.0.next_offset = Some(offset);
        self
    }
}

impl From<pennine_store::Error> for ServiceError {
    fn from(error: pennine_store::Error) -> Self {
        use pennine_store::Error as E;
        match error {
            E::Unreachable(_) | E::TooSlow(_) => {
                tracing::warn!(%error, "a request failed on the database");
                ServiceError::new(
                    ErrorKind::Unavailable,
                    "database-away",
                    "The database is unavailable",
                    "the service cannot reach its database; changes without an answer were not made",
                )
                .remedy("try again in a moment; /readyz reports when it is back")
            }
            E::Full(_) => {
                tracing::error!(%error, "a write was refused for want of space");
                ServiceError::full("the database's disk is full")
            }
            E::Busy => ServiceError::busy(
                "the service has more requests of this kind than it can answer at once",
            ),
            E::Duplicate(constraint) => ServiceError::conflict(
                "exists-already",
                "It already exists",
                format!("a conflicting object already exists ({constraint})"),
            ),
            E::Newer(_) | E::NotOwner | E::Refused(_) => ServiceError::ours(&error),
        }
    }
}

impl From<LogError> for ServiceError {
    fn from(error: LogError) -> Self {
        match error {
            LogError::Record(error) => error.into(),
            error if error.is_full() => {
                tracing::error!(%error, "log bytes were refused for want of space");
                ServiceError::full("the store of logs is full")
            }
            error => ServiceError::ours(&error),
        }
    }
}

impl ServiceError {
    /// Whether the token or the sign-in is not valid.
    pub fn is_unauthenticated(&self) -> bool {
        self.0.kind == ErrorKind::Unauthenticated
    }

    /// An internal error: the cause goes to the log only.
    pub fn ours(error: &dyn std::error::Error) -> Self {
        ServiceError::internal(error.to_string())
    }
}
