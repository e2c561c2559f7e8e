//! `machine.toml` in the runner's folder: what its owner lets jobs reach on this machine. Jobs cannot write it.

use crate::error::Error;
use crate::system::isolation::users::UserRange;
use serde::Deserialize;
use std::path::{Path, PathBuf};

/// The file's name.
pub const FILE: &str = "machine.toml";

/// Environment variables with further paths, joined with colons.
const HIDE: &str = "PENNINE_RUNNER_HIDE";
const EXPOSE: &str = "PENNINE_RUNNER_EXPOSE";

/// What jobs may reach on this machine.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct MachineSettings {
    /// Where the runner is root: jobs are root as well.
    pub jobs_as_root: bool,
    /// Where the runner is root and jobs are not: their user numbers, `FIRST-LAST`. The first owns their files on disk.
    pub users: Option<String>,
    /// Folders and files that jobs do not see, in addition to the ones that are always hidden.
    pub hide: Vec<PathBuf>,
    /// Folders and files that jobs see although they are below a hidden folder, such as a tool in the user's home.
    pub expose: Vec<PathBuf>,
}

/// Writes into the file of a runner's folder that jobs run as root, unless it already says whether they do.
///
/// Errors: the runner is not root; the file cannot be read or written, or is wrong.
pub fn allow_root(folder: &Path) -> Result<(), Error> {
    if !nix::unistd::geteuid().is_root() {
        let message = "--jobs-as-root: the runner is not root, so its jobs cannot be";
        return Err(Error::Usage(message.to_owned()));
    }
    let path = folder.join(FILE);
    let broken = |error: std::io::Error| Error::Settings(path.clone(), error.to_string());
    if MachineSettings::of(folder)?.jobs_as_root {
        return Ok(());
    }
    let before = match std::fs::read_to_string(&path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        read => read.map_err(broken)?,
    };
    let kept = before
        .lines()
        .filter(|line| !line.trim_start().starts_with("jobs_as_root"));
    let lines: Vec<&str> = std::iter::once("jobs_as_root = true").chain(kept).collect();
    std::fs::write(&path, lines.join("\n") + "\n").map_err(broken)
}

impl MachineSettings {
    /// Reads the file of a runner's folder; the defaults where there is none.
    ///
    /// Errors: it cannot be read, an unknown key, a relative path, a wrong range.
    pub fn of(folder: &Path) -> Result<MachineSettings, Error> {
        let path = folder.join(FILE);
        let broken = |message: String| Error::Settings(path.clone(), message);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(broken(error.to_string())),
        };
        let mut settings: MachineSettings =
            toml::from_str(&text).map_err(|error| broken(error.to_string()))?;
        // For machines that are started by a program, such as those of a cloud.
        for (name, paths) in [(HIDE, &mut settings.hide), (EXPOSE, &mut settings.expose)] {
            let more = std::env::var_os(name).unwrap_or_default();
            paths.extend(std::env::split_paths(&more).filter(|path| path.is_absolute()));
        }
        settings.range().map_err(broken)?;
        let mut paths = settings.hide.iter().chain(&settings.expose);
        if let Some(path) = paths.find(|path| !path.is_absolute() || path.parent().is_none()) {
            let message = format!("{} is not an absolute path below /", path.display());
            return Err(broken(message));
        }
        Ok(settings)
    }

    /// The user numbers of jobs.
    pub fn range(&self) -> Result<UserRange, String> {
        match &self.users {
            None => Ok(UserRange::default()),
            Some(text) => text.parse().map_err(|error| format!("users: {error}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_read_and_wrong_ones_named() {
        let folder = tempfile::tempdir().unwrap();
        let read = |text: &str| {
            std::fs::write(folder.path().join(FILE), text).unwrap();
            MachineSettings::of(folder.path()).map_err(|error| error.to_string())
        };
        assert_eq!(read(""), Ok(MachineSettings::default()));
        if nix::unistd::geteuid().is_root() {
            read("# tools\njobs_as_root = false\nexpose = ['/opt/tools']").unwrap();
            allow_root(folder.path()).unwrap();
            let settings = MachineSettings::of(folder.path()).unwrap();
            assert!(
                settings.jobs_as_root && settings.expose.len() == 1,
                "{settings:?}"
            );
        } else {
            assert!(allow_root(folder.path()).is_err());
        }
        let given = read("hide = ['/srv/data']\nusers = '2000-2010'").unwrap();
        assert_eq!(given.hide, [PathBuf::from("/srv/data")]);
        assert_eq!(given.range().unwrap().first, 2001);
        for (wrong, named) in [
            ("hidden = []", "hidden"),
            ("hide = ['data']", "data is not an absolute path"),
            ("expose = ['/']", "/ is not"),
            ("users = '5'", "FIRST-LAST"),
        ] {
            let error = read(wrong).unwrap_err();
            assert!(error.contains(named) && error.contains(FILE), "{error}");
        }
    }
}
