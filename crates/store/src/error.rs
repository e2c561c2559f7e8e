//! What can go wrong with the record.

use diesel::result::{DatabaseErrorKind, Error as DieselError};

/// A query's outcome.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong with the record.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// PostgreSQL cannot be reached, or the connection broke. Trying again later may help.
    #[error("the database cannot be reached: {0}")]
    Unreachable(String),
    /// All connections of the pool were in use for too long.
    #[error("all database connections for this use are busy")]
    Busy,
    /// Something with that name or key is there already; the constraint is named.
    #[error("it already exists (constraint {0})")]
    Duplicate(String),
    /// The statement took longer than allowed, or met another's lock for too long.
    #[error("the database took too long: {0}")]
    TooSlow(String),
    /// The database's disk is full.
    #[error("the database's disk is full: {0}")]
    Full(String),
    /// The database's schema is newer than this program.
    #[error(
        "the database has the migration {0}, which this program does not know: run a newer program"
    )]
    Newer(String),
    /// The database's schema is older than this program, and belongs to another role.
    #[error(
        "the database's schema is older than this program, and this role does not own it: run pennined migrate with the address of its owner (database_owner_url)"
    )]
    NotOwner,
    /// Anything else.
    #[error("the database refused: {0}")]
    Refused(String),
}

impl From<DieselError> for Error {
    fn from(error: DieselError) -> Self {
        match error {
            DieselError::DatabaseError(DatabaseErrorKind::UniqueViolation, info) => {
                Error::Duplicate(info.constraint_name().unwrap_or_default().to_owned())
            }
            DieselError::DatabaseError(DatabaseErrorKind::ClosedConnection, info) => {
                Error::Unreachable(info.message().to_owned())
            }
            DieselError::DatabaseError(_, info) => {
                let message = info.message().to_owned();
                if message.contains("No space left on device") {
                    Error::Full(message)
                } else if ["timeout", "canceling statement"]
                    .iter()
                    .any(|word| message.contains(word))
                {
                    Error::TooSlow(message)
                } else if ["connection", "shutting down", "starting up", "terminating"]
                    .iter()
                    .any(|w| message.contains(w))
                {
                    Error::Unreachable(message)
                } else {
                    Error::Refused(message)
                }
            }
            DieselError::BrokenTransactionManager => {
                Error::Unreachable("the connection broke".to_owned())
            }
            other => Error::Refused(other.to_string()),
        }
    }
}
