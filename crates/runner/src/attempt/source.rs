//! The files with which a job begins: fetched and unpacked inside the job, with the job's own rights, before its command.
//!
//! The runner starts `pennine-runner source … -- COMMAND` in place of the command. That fetches the files into the workspace and
//! becomes the command: an archive from the runner's socket, or a revision from its repository. An archive or a repository that is
//! damaged or hostile reaches only what the job itself could.

pub mod archive;
mod repository;

use super::announcement::{announced, report};
use super::identity::SOCKET_VARIABLE;
use crate::error::Error;
use clap::Args;
use pennine_client::job_source;
use pennine_core::size::ByteSize;
use pennine_core::source::{JobSource, Repository};
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Assigned, PhaseReport};
use std::io::{self, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;
use tokio_util::io::{StreamReader, SyncIoBridge};

/// The exit code of a job whose files could not be had.
pub const NO_SOURCE: i32 = 121;

/// The origin of the files: an archive's digest, or a repository and its revision.
#[derive(Args)]
pub struct SourceArguments {
    /// The SHA-256 of the archive, in hexadecimal.
    #[arg(long, required_unless_present = "repository")]
    digest: Option<String>,
    /// The address of the repository.
    #[arg(long, requires = "revision", conflicts_with = "digest")]
    repository: Option<String>,
    /// The revision, as the whole hash of a commit.
    #[arg(long)]
    revision: Option<String>,
    /// The command, after --.
    #[arg(last = true, required = true)]
    command: Vec<String>,
}

/// The command that is started for a job: its own, with each of several commands announced, and the one that fetches its files before
/// it.
pub fn launched(assigned: &Assigned) -> Vec<String> {
    let Ok(program) = std::env::current_exe() else {
        return assigned.command.clone();
    };
    let program = program.display().to_string();
    let own = match assigned.commands.as_slice() {
        [] | [_] => assigned.command.clone(),
        commands => vec!["sh".into(), "-ec".into(), announced(&program, commands)],
    };
    let Some(source) = &assigned.source else {
        return own;
    };
    let mut command = vec![program, "source".to_owned()];
    command.extend(match source {
        JobSource::Archive { digest, .. } => vec![format!("--digest={digest}")],
        JobSource::Repository(Repository { url, revision }) => {
            vec![
                format!("--repository={url}"),
                format!("--revision={revision}"),
            ]
        }
    });
    command.push("--".to_owned());
    command.extend(own);
    command
}

/// Fetches the job's files into the present folder and becomes its command. Returns the exit code where that fails.
pub async fn run(arguments: SourceArguments) -> Result<i32, Error> {
    let begun = Instant::now();
    let SourceArguments {
        digest,
        repository,
        revision,
        command,
    } = arguments;
    let fetched = match (digest, repository, revision) {
        (Some(digest), ..) => from_archive(digest).await?,
        (None, Some(url), Some(revision)) => {
            let wanted = Repository { url, revision };
            tokio::task::spawn_blocking(move || repository::fetch(&wanted, Path::new(".")))
                .await
                .unwrap_or_else(|error| Err(error.to_string()))
        }
        _ => {
            return Err(Error::Usage(
                "give a digest, or a repository and its revision".to_owned(),
            ));
        }
    };
    match fetched {
        Ok(what) => {
            println!("pennine: source: {what}, in {}", spoken(begun.elapsed()));
            report(&PhaseReport::SourceReady).await;
        }
        Err(error) => {
            let message = format!("the files of the run {error}");
            eprintln!("pennine: {message}");
            report(&PhaseReport::SourceFailed { message }).await;
            return Ok(NO_SOURCE);
        }
    }
    let _ = io::stdout().flush();
    let Some((program, arguments)) = command.split_first() else {
        return Err(Error::Usage("there is no command to become".to_owned()));
    };
    let error = Command::new(program).args(arguments).exec();
    eprintln!("pennine: the command {program:?} cannot be started: {error}");
    Ok(match error.kind() {
        io::ErrorKind::NotFound => 127,
        _ => 126,
    })
}

/// Asks for the archive and unpacks it. Returns what it held, or what is wrong with it.
async fn from_archive(digest: String) -> Result<Result<String, String>, Error> {
    let Some(socket) = std::env::var_os(SOCKET_VARIABLE).map(PathBuf::from) else {
        let message = format!("{SOCKET_VARIABLE} is not set: files are given inside a job only");
        return Err(Error::Usage(message));
    };
    let pieces = match job_source(&socket).await {
        Ok(pieces) => pieces,
        Err(error) => return Ok(Err(format!("cannot be fetched: {error}"))),
    };
    let reader = SyncIoBridge::new(StreamReader::new(Box::pin(pieces)));
    let unpacking =
        tokio::task::spawn_blocking(move || archive::unpack(reader, &digest, Path::new(".")));
    let wrong = |error: &dyn std::fmt::Display| format!("cannot be unpacked: {error}");
    Ok(match unpacking.await {
        Ok(Ok(unpacked)) => {
            let s = if unpacked.files == 1 { "" } else { "s" };
            Ok(format!(
                "{} file{s}, {}",
                unpacked.files,
                ByteSize(unpacked.bytes)
            ))
        }
        Ok(Err(error)) => Err(wrong(&error)),
        Err(error) => Err(wrong(&error)),
    })
}
