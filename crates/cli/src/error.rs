//! What can go wrong, told so that a person knows what to do, with an exit status.

use pennine_client::ClientError;
use std::fmt;

/// Why a command did not do what it was asked.
#[derive(Debug)]
pub enum Error {
    /// The command line or its settings are wrong.
    Usage(String),
    /// The service refused, could not be reached, or is not one.
    Client(ClientError),
    /// A requirement that the service could not read, with its text.
    Requirement(ClientError, String),
    /// This machine: a file, the terminal.
    Here(String),
}

impl Error {
    /// Whether the same request may succeed later.
    pub fn passes(&self) -> bool {
        matches!(self, Error::Client(error) if error.passes())
    }

    /// 2 wrong usage, 3 refused, 4 no connection, 1 the rest.
    pub fn exit_status(&self) -> u8 {
        match self {
            Error::Usage(_) | Error::Client(ClientError::Setup(_)) => 2,
            Error::Client(ClientError::Refused(_)) | Error::Requirement(..) => 3,
            Error::Client(ClientError::NoConnection { .. } | ClientError::Strange { .. }) => 4,
            Error::Here(_) => 1,
        }
    }
}

impl From<ClientError> for Error {
    fn from(error: ClientError) -> Self {
        Error::Client(error)
    }
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Self {
        Error::Here(error.to_string())
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Error::Usage(message) | Error::Here(message) => write!(f, "pennine: {message}"),
            Error::Client(error) | Error::Requirement(error, _) => {
                write!(f, "pennine: {error}")?;
                if let (Error::Requirement(_, text), Some(problem)) = (self, error.problem())
                    && let Some(column) = problem.column
                {
                    write!(f, "\n  {text}\n  {:>column$}", "^")?;
                }
                match error {
                    ClientError::NoConnection { .. } => {
                        write!(
                            f,
                            "\n  Is the service running? ./start status shows it; --url or PENNINE_URL sets its address."
                        )
                    }
                    ClientError::Strange { .. } => {
                        write!(f, "\n  Check --url: another program seems to listen there.")
                    }
                    ClientError::Refused(problem) => {
                        if let Some(field) =
                            problem.field.as_ref().filter(|_| problem.column.is_none())
                        {
                            write!(f, "\n  field: {field}")?;
                        }
                        if let Some(remedy) = &problem.remedy {
                            write!(f, "\n  {remedy}")?;
                        }
                        if problem.status >= 500
                            && let Some(id) = &problem.instance
                        {
                            write!(f, "\n  request {id}")?;
                        }
                        Ok(())
                    }
                    ClientError::Setup(_) => Ok(()),
                }
            }
        }
    }
}
