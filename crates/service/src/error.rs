//! What can go wrong with what somebody asks of the service, without HTTP: operations and views return it, and
//! `http::answer` alone turns it into a problem.

use crate::log_store::LogError;
use pennine_core::requirement::SyntaxError;

/// The outcome of an operation or a view.
pub type Result<T, E = ServiceError> = std::result::Result<T, E>;

/// The sort of an error, by who can do something about it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ErrorKind {
    /// A field is wrong.
    Invalid,
    /// There is no such thing.
    NotFound,
    /// It clashes with what is there.
    Conflict,
    /// The thing was changed since it was read.
    Stale,
    /// Nobody is signed in, or the token is not valid.
    Unauthenticated,
    /// The caller may not do it.
    Forbidden,
    /// The thing was there, and is no more.
    Gone,
    /// The database or another part cannot be reached just now.
    Unavailable,
    /// A defect of ours; the cause is in the log only.
    Internal,
}

/// An error of an operation or a view.
#[derive(Clone, PartialEq, Debug)]
pub struct ServiceError(Box<Details>);

/// What an error says.
#[derive(Clone, PartialEq, Debug)]
pub struct Details {
    pub kind: ErrorKind,
    /// A stable word by which programs tell errors apart: `unknown-pool`.
    pub code: String,
    pub title: String,
    /// What is wrong, with the value.
    pub detail: String,
    /// The field at fault.
    pub field: Option<String>,
    /// The column of a requirement, from 1.
    pub column: Option<usize>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// The offset at which a log goes on.
    pub next_offset: Option<u64>,
    /// The version that the thing has now.
    pub version: Option<String>,
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
        }))
    }

    /// Returns what the error says.
    pub fn details(&self) -> &Details {
        &self.0
    }

    /// Returns what the error says, for whoever turns it into an answer.
    pub fn into_details(self) -> Details {
        *self.0
    }

    /// The request is wrong in one field.
    pub fn invalid(field: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(
            ErrorKind::Invalid,
            "invalid-field",
            "A field is wrong",
            detail,
        )
        .field(field)
    }

    /// A requirement cannot be read.
    pub fn requirement(field: &str, error: SyntaxError) -> Self {
        let mut failure = ServiceError::new(
            ErrorKind::Invalid,
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
        let mut failure = ServiceError::new(
            ErrorKind::NotFound,
            &format!("unknown-{noun}"),
            &format!("There is no such {noun}"),
            format!("there is no {noun} {name:?}"),
        );
        if [
            "job", "machine", "pool", "project", "runner", "supplier", "team",
        ]
        .contains(&noun)
        {
            failure = failure.remedy(format!("pennine {noun} list shows those that exist"));
        }
        failure
    }

    /// The name stands for several things.
    pub fn ambiguous(noun: &str, name: &str, choices: &[String]) -> Self {
        ServiceError::new(
            ErrorKind::Conflict,
            "ambiguous-name",
            "The name stands for several things",
            format!("{name:?} is the name of several: {}", choices.join(", ")),
        )
        .remedy(format!("name the {noun} by one of these"))
    }

    /// It clashes with what is there.
    pub fn conflict(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Conflict, kind, title, detail)
    }

    /// The thing has changed since it was read; `version` is the one that it has now.
    pub fn stale(detail: impl Into<String>, version: String) -> Self {
        let mut error = ServiceError::new(
            ErrorKind::Stale,
            "changed-meanwhile",
            "It has changed meanwhile",
            detail,
        );
        error.0.version = Some(version);
        error.remedy("read it again, and repeat your change if it still applies")
    }

    /// Something has that name already.
    pub fn taken(detail: impl Into<String>) -> Self {
        ServiceError::conflict("exists-already", "The name is taken", detail).field("name")
    }

    /// Nobody is signed in, or the token does not hold.
    pub fn unauthenticated(detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Unauthenticated, "not-signed-in", "A valid token is needed", detail)
            .remedy("send Authorization: Bearer TOKEN; the administrator's lies in admin.token in the service's data folder")
    }

    /// It is not allowed.
    pub fn forbidden(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Forbidden, kind, title, detail)
    }

    /// It is over.
    pub fn gone(kind: &str, title: &str, detail: impl Into<String>) -> Self {
        ServiceError::new(ErrorKind::Gone, kind, title, detail)
    }

    /// Names the field at fault.
    pub fn field(mut self, field: &str) -> Self {
        self.0.field = Some(field.to_owned());
        self
    }

    /// Says what to do.
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.0.remedy = Some(remedy.into());
        self
    }

    /// Says at which offset a log goes on.
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
                    "The database does not answer",
                    "the service cannot reach its database just now; nothing was changed that was not answered",
                )
                .remedy("try again in a moment; /readyz tells when it is back")
            }
            E::Duplicate(constraint) => ServiceError::conflict(
                "exists-already",
                "There is one already",
                format!("something like it exists already ({constraint})"),
            ),
            E::Newer(_) | E::Refused(_) => ServiceError::ours(&error),
        }
    }
}

impl From<LogError> for ServiceError {
    fn from(error: LogError) -> Self {
        match error {
            LogError::Record(error) => error.into(),
            error => ServiceError::ours(&error),
        }
    }
}

impl ServiceError {
    /// A failure of ours: the cause goes to the log only.
    pub fn ours(error: &dyn std::error::Error) -> Self {
        tracing::error!(error = %error, "a request failed inside the service");
        ServiceError::new(
            ErrorKind::Internal,
            "internal",
            "The service failed",
            "the service failed while it worked on this request; its log says why, under the request's id",
        )
    }
}
