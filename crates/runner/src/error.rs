//! What can go wrong with a runner, told so that a person knows what to do.

use pennine_client::ClientError;
use pennine_core::finding::Finding;
use pennine_wire::runner_protocol::{OLDEST_PROTOCOL, PROTOCOL, ServiceInfo};
use std::path::PathBuf;

/// Why the runner cannot go on.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// Something about the folder.
    #[error("{} cannot be used: {}", .0.display(), .1)]
    Folder(PathBuf, String),
    /// Something about a file of settings.
    #[error("{}: {}", .0.display(), .1)]
    Settings(PathBuf, String),
    /// Another process works there.
    #[error("another pennine-runner is already running in {}", .0.display())]
    InUse(PathBuf),
    /// What is to be logged is not understood.
    #[error(
        "PENNINE_RUNNER_LOG={0} is not a level or a list of levels (info, or info,pennine_runner=debug): {1}"
    )]
    Level(String, String),
    /// `work` before `join`.
    #[error("this machine has not joined yet (no runner.json in {}).\n  Get the command with: pennine ticket add --pool POOL", .0.display())]
    NotJoined(PathBuf),
    /// `join` after `join`.
    #[error(
        "this folder already belongs to the runner {0}; join another one with --dir DIR, or start it with: pennine-runner work"
    )]
    JoinedAlready(String),
    /// The clocks differ.
    #[error(
        "this machine's clock is {0} from the service's; set it (timedatectl set-ntp true) and join again"
    )]
    Clock(String),
    /// The protocols do not meet.
    #[error("{0}")]
    Protocol(String),
    /// The service at the address is another than the one that was joined.
    #[error(
        "{0} is not the installation that this runner joined; use its address, or join in another folder"
    )]
    OtherInstallation(String),
    /// The service refused, or could not be reached.
    #[error("{}", describe(.0))]
    Client(#[from] ClientError),
    /// The machine is not fit to join.
    #[error("this machine cannot join:{}", .0.iter().map(finding_line).collect::<String>())]
    Unfit(Vec<Finding>),
    /// The doctor found something.
    #[error("some checks failed")]
    Unwell,
    /// A value is missing, and there is no terminal to prompt for it.
    #[error("{0} is missing: give {1}")]
    Missing(&'static str, &'static str),
    /// An argument makes no sense.
    #[error("{0}")]
    Usage(String),
    /// This program cannot do something that it must.
    #[error("{0}")]
    Machine(String),
}

impl Error {
    /// Whether it may be over in a while: the service is not there, or not ready.
    pub fn may_pass(&self) -> bool {
        match self {
            Error::Client(ClientError::NoConnection { .. }) => true,
            Error::Client(ClientError::Refused(problem)) => problem.status >= 500,
            _ => false,
        }
    }

    /// 2 for wrong usage, 3 when the service refuses, 4 when there is no connection, 1 for the rest.
    pub fn exit_status(&self) -> u8 {
        match self {
            Error::Client(ClientError::NoConnection { .. } | ClientError::Strange { .. }) => 4,
            Error::Client(ClientError::Refused(_))
            | Error::Protocol(_)
            | Error::OtherInstallation(_) => 3,
            Error::Level(..)
            | Error::Settings(..)
            | Error::NotJoined(_)
            | Error::JoinedAlready(_)
            | Error::Missing(..)
            | Error::Usage(_)
            | Error::Client(ClientError::Setup(_)) => 2,
            Error::Folder(..)
            | Error::InUse(_)
            | Error::Clock(_)
            | Error::Unfit(_)
            | Error::Unwell
            | Error::Machine(_) => 1,
        }
    }
}

/// A finding as one line of a list.
pub fn finding_line(finding: &Finding) -> String {
    let remedy = finding.remedy.iter().map(|remedy| format!("; {remedy}"));
    format!(
        "\n  {}: {}{}",
        finding.check,
        finding.message,
        remedy.collect::<String>()
    )
}

/// A client's error with what to do about it.
pub fn describe(error: &ClientError) -> String {
    let remedy = match error {
        ClientError::NoConnection { cause, .. } if cause.contains("refused") => {
            "Is the service running, and is the port right?"
        }
        ClientError::NoConnection { cause, .. }
            if cause.contains("dns") || cause.contains("lookup") =>
        {
            "The name cannot be resolved: check --server and this machine's DNS."
        }
        ClientError::NoConnection { cause, .. } if cause.contains("ertificate") => {
            "The certificate is not trusted here: give its authority with --ca FILE."
        }
        ClientError::NoConnection { .. } => {
            "Check the address, and that this machine may connect outward to it."
        }
        ClientError::Strange { .. } => "Check --server: another program seems to listen there.",
        ClientError::Refused(problem) => {
            return match &problem.remedy {
                Some(remedy) => format!("the service refused: {}\n  {remedy}", problem.detail),
                None => format!("the service refused: {}", problem.detail),
            };
        }
        ClientError::Setup(_) => return error.to_string(),
    };
    format!("{error}\n  {remedy}")
}

/// Checks that the service there speaks a protocol that this program speaks.
pub fn check_protocol(hello: &ServiceInfo) -> Result<(), Error> {
    if hello.oldest_protocol > PROTOCOL {
        return Err(Error::Protocol(format!(
            "the service (version {}) no longer supports this runner's protocol {PROTOCOL}; update pennine-runner",
            hello.version
        )));
    }
    if hello.protocol < OLDEST_PROTOCOL {
        return Err(Error::Protocol(format!(
            "the service (version {}) is too old for this runner; update the service",
            hello.version
        )));
    }
    Ok(())
}
