//! A revision of a repository as a run's source: its sheet is read here, its files are fetched by each job.

use crate::error::Error;
use pennine_core::source::Repository;
use std::path::Path;
use std::process::Command;

/// A revision, resolved, with its sheet.
pub struct SheetRevision {
    pub repository: Repository,
    pub sheet: String,
    /// The branch, where the revision was given as one.
    pub branch: Option<String>,
}

/// Fetches a revision with the machine's own git, as the person who submits, and reads its job sheet.
///
/// # Errors
/// Where git is not there, the repository or the revision is not, or the revision has no sheet.
pub fn resolve(url: &str, at: &str) -> Result<SheetRevision, Error> {
    if at.starts_with('-') || at.is_empty() {
        return Err(Error::Usage(format!(
            "{at:?} is no revision: give a branch, a tag or a commit"
        )));
    }
    let folder = tempfile::tempdir().map_err(|error| Error::Usage(error.to_string()))?;
    let git = |arguments: &[&str]| git(folder.path(), arguments);
    git(&["init", "--quiet", "--bare", "."])?;
    git(&["fetch", "--quiet", "--no-tags", "--depth=1", "--", url, at])?;
    let revision = git(&["rev-parse", "FETCH_HEAD^{commit}"])?
        .trim()
        .to_owned();
    let sheet = git(&["show", "FETCH_HEAD:pennine.toml"])
        .map_err(|_| Error::Usage(format!("{at} of {url} has no pennine.toml")))?;
    let branches = git(&["ls-remote", "--heads", "--", url, at])?;
    let is_branch = branches
        .lines()
        .any(|line| line.ends_with(&format!("refs/heads/{at}")));
    let repository = Repository {
        url: url.to_owned(),
        revision,
    };
    let checked = repository.check();
    checked.map_err(|error| Error::Usage(error.to_string()))?;
    Ok(SheetRevision {
        repository,
        sheet,
        branch: is_branch.then(|| at.to_owned()),
    })
}

/// Runs git. Returns what it printed.
fn git(folder: &Path, arguments: &[&str]) -> Result<String, Error> {
    let output = Command::new("git")
        .current_dir(folder)
        .args(["-c", "protocol.ext.allow=never"])
        .args(arguments)
        .output();
    let output = output.map_err(|error| Error::Usage(format!("git cannot be started: {error}")))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(Error::Usage(format!("git: {}", said.trim())))
}
