//! Programs of an operator's own that answer one question: JSON on stdin, the answer on stdout.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};
use tokio::process::Command;

/// The most that is read of an answer.
const MOST: u64 = 4 << 20;

/// Why a program did not answer.
#[derive(Debug, thiserror::Error)]
pub enum ProgramFailure {
    /// It could not be started, and so has done nothing.
    #[error("{0}")]
    NotStarted(String),
    /// It was started: what it has done is not known.
    #[error("{0}")]
    Broken(String),
}

/// Runs a program with a question on its standard input, for at most `patience`. Returns what it printed. `name` is what the
/// question is called in errors. Of the environment it gets PATH alone.
///
/// # Errors
/// The program cannot be started, takes too long, or ends with another status than 0.
pub async fn ask(
    program: &Path,
    name: &str,
    question: &[u8],
    patience: Duration,
) -> Result<String, ProgramFailure> {
    let mut child = Command::new(program)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .env_clear()
        .envs(std::env::var("PATH").map(|path| ("PATH", path)))
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| {
            let message = format!("{} cannot be run: {error}", program.display());
            ProgramFailure::NotStarted(message)
        })?;
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let talk = async {
        let write = async {
            if let Some(mut stdin) = stdin {
                // A program that does not care for the question may have closed it.
                let _ = stdin.write_all(question).await;
            }
        };
        let (_, out, errors) = tokio::join!(write, all_of(stdout), all_of(stderr));
        (child.wait().await, out, errors)
    };
    let (status, out, errors) = tokio::time::timeout(patience, talk).await.map_err(|_| {
        let message = format!("no answer to {name} within {} s", patience.as_secs());
        ProgramFailure::Broken(message)
    })?;
    let last = crate::tail(errors.trim(), 300);
    match status {
        Ok(status) if status.success() => Ok(out),
        Ok(status) => Err(ProgramFailure::Broken(format!(
            "{name} ended with {status}: {last}"
        ))),
        Err(error) => Err(ProgramFailure::Broken(format!("{name}: {error}"))),
    }
}

async fn all_of(from: Option<impl AsyncRead + Unpin>) -> String {
    let mut bytes = Vec::new();
    if let Some(from) = from {
        let _ = from.take(MOST).read_to_end(&mut bytes).await;
    }
    String::from_utf8_lossy(&bytes).into_owned()
}
