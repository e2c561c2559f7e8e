//! The runner's folder: who it is, and what it is working on.
//!
//! ```text
//!   runner.json   the service, the runner's name, its credential (mode 0600)
//!   log/          its own log, a file a day
//!   lock          held while a runner works here
//!   work/ATTEMPT  the workspace of an attempt
//!   spool/ATTEMPT the part of its log not yet uploaded; spool/ATTEMPT.journal: the attempt's state
//! ```

use crate::error::Error;
use crate::journal::Journal;
use pennine_core::id::{AttemptId, RunnerId};
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use tracing_appender::rolling::{RollingFileAppender, Rotation};
use uuid::Uuid;

/// How many days its own log is kept.
pub const LOG_DAYS: usize = 14;

/// Who this runner is.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Identity {
    pub server: String,
    /// The installation that it joined, so that another service at the same address is noticed.
    pub installation: Uuid,
    pub runner: RunnerId,
    pub short: String,
    pub name: String,
    pub pool: String,
    pub slots: u32,
    pub labels: Vec<String>,
    pub credential: String,
    /// The folder of a limit that it shares with the other runners of its host, and how many jobs that is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shares: Option<(PathBuf, u32)>,
    /// Whether it leaves permanently after its first job.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub single_use: bool,
}

/// The runner's folder.
#[derive(Clone, Debug)]
pub struct Home(PathBuf);

/// Held while a runner works in its folder.
pub struct Lock(#[allow(dead_code)] File);

impl Home {
    /// The folder at this path, made if it is not there.
    pub fn at(path: &Path) -> Result<Home, Error> {
        let broken = |e: std::io::Error| Error::Folder(path.to_owned(), e.to_string());
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(path)
            .map_err(broken)?;
        Ok(Home(path.canonicalize().map_err(broken)?))
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// The runner's own log: a file for each day (UTC), as many of which are kept as [`LOG_DAYS`] says.
    pub fn log_file(&self) -> Result<RollingFileAppender, String> {
        std::fs::create_dir_all(self.0.join("log")).map_err(|error| error.to_string())?;
        RollingFileAppender::builder()
            .rotation(Rotation::DAILY)
            .filename_prefix("runner")
            .filename_suffix("log")
            .max_log_files(LOG_DAYS)
            .build(self.0.join("log"))
            .map_err(|error| error.to_string())
    }

    /// Finds out whether it can be written.
    pub fn try_writing(&self) -> std::io::Result<()> {
        let path = self.0.join(".written");
        let written = File::create(&path)
            .and_then(|mut file| file.write_all(b"x").and_then(|()| file.sync_all()));
        let removed = std::fs::remove_file(&path);
        written.and(removed)
    }

    fn identity_path(&self) -> PathBuf {
        self.0.join("runner.json")
    }

    /// Who this runner is, if it has joined.
    pub fn identity(&self) -> Result<Option<Identity>, Error> {
        let path = self.identity_path();
        let broken = |message: String| Error::Folder(path.clone(), message);
        match std::fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes)
                .map(Some)
                .map_err(|e| broken(format!("it is damaged: {e}"))),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(broken(error.to_string())),
        }
    }

    /// Writes down who this runner is, readable by its owner only. The file is there whole or not at all.
    pub fn set_identity(&self, identity: &Identity) -> Result<(), Error> {
        let path = self.identity_path();
        let broken = |e: std::io::Error| Error::Folder(path.clone(), e.to_string());
        let new = path.with_extension("new");
        let mut file = OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(true)
            .mode(0o600)
            .open(&new)
            .map_err(broken)?;
        file.write_all(&serde_json::to_vec_pretty(identity).unwrap_or_default())
            .map_err(broken)?;
        file.sync_all().map_err(broken)?;
        std::fs::rename(&new, &path).map_err(broken)
    }

    /// Forgets who this runner was, its credential with it.
    pub fn forget_identity(&self) -> Result<(), Error> {
        let path = self.identity_path();
        std::fs::remove_file(&path).map_err(|e| Error::Folder(path, e.to_string()))
    }

    /// Takes the folder for one process.
    pub fn lock(&self) -> Result<Lock, Error> {
        let path = self.0.join("lock");
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&path)
            .map_err(|e| Error::Folder(path.clone(), e.to_string()))?;
        file.try_lock().map_err(|error| match error {
            TryLockError::WouldBlock => Error::InUse(self.0.clone()),
            TryLockError::Error(error) => Error::Folder(path, error.to_string()),
        })?;
        Ok(Lock(file))
    }

    /// The workspace of an attempt.
    pub fn workspace(&self, attempt: AttemptId) -> PathBuf {
        self.0.join("work").join(attempt.to_string())
    }

    /// The log of an attempt on its way to the service.
    pub fn spool(&self, attempt: AttemptId) -> PathBuf {
        self.0.join("spool").join(attempt.to_string())
    }

    fn journal_path(&self, attempt: AttemptId) -> PathBuf {
        self.spool(attempt).with_extension("journal")
    }

    /// Writes down how an attempt stands. The file is there whole or not at all, whenever this program ends.
    pub fn keep_journal(&self, attempt: AttemptId, journal: &Journal) -> std::io::Result<()> {
        let path = self.journal_path(attempt);
        let new = path.with_extension("new");
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(&new, serde_json::to_vec(journal)?)?;
        std::fs::rename(&new, &path)
    }

    /// How an attempt of an earlier life of this program stood.
    pub fn journal(&self, attempt: AttemptId) -> Option<Journal> {
        serde_json::from_slice(&std::fs::read(self.journal_path(attempt)).ok()?).ok()
    }

    /// Makes an attempt's log and journal outlive the machine's power.
    pub fn settle(&self, attempt: AttemptId) {
        for path in [self.spool(attempt), self.journal_path(attempt)] {
            let synced = File::open(&path).and_then(|file| file.sync_all());
            if let Err(error) = synced
                && error.kind() != std::io::ErrorKind::NotFound
            {
                tracing::warn!(%error, file = %path.display(), "cannot be made durable");
            }
        }
    }

    /// Removes what an attempt left in the folder.
    pub fn sweep(&self, attempt: AttemptId) {
        self.clear_workspace(attempt);
        let _ = std::fs::remove_file(self.spool(attempt));
        let _ = std::fs::remove_file(self.journal_path(attempt));
        // Left where this program was killed while it wrote a slip down.
        let _ = std::fs::remove_file(self.spool(attempt).with_extension("new"));
    }

    /// Removes an attempt's workspace. What cannot be removed is retried at the next start.
    pub fn clear_workspace(&self, attempt: AttemptId) {
        let workspace = self.workspace(attempt);
        if let Err(error) = remove_whole(&workspace) {
            tracing::warn!(%error, folder = %workspace.display(), "a workspace cannot be removed; retried at the next start");
        }
    }

    /// Attempts that left something in the folder.
    pub fn leftovers(&self) -> Vec<AttemptId> {
        let mut found = Vec::new();
        for part in ["work", "spool"] {
            let entries = std::fs::read_dir(self.0.join(part))
                .into_iter()
                .flatten()
                .flatten();
            found.extend(entries.filter_map(|entry| {
                let name = entry.file_name();
                let stem = Path::new(&name).file_stem()?.to_str()?;
                stem.parse::<AttemptId>().ok()
            }));
        }
        found.sort();
        found.dedup();
        found
    }
}

/// Removes a folder with everything in it, folders that a job made read-only too.
fn remove_whole(folder: &Path) -> std::io::Result<()> {
    let gone = |error: &std::io::Error| error.kind() == std::io::ErrorKind::NotFound;
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => {
            make_writable(folder)?;
            std::fs::remove_dir_all(folder)
        }
        Err(error) if !gone(&error) => Err(error),
        _ => Ok(()),
    }
}

/// Lets the owner write in a folder and all below it. Links are not followed.
fn make_writable(folder: &Path) -> std::io::Result<()> {
    let mut ahead = vec![folder.to_owned()];
    while let Some(folder) = ahead.pop() {
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700))?;
        for entry in std::fs::read_dir(&folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                ahead.push(entry.path());
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_an_attempt_left_is_found_and_swept() {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::at(folder.path()).unwrap();
        let attempt = AttemptId(Uuid::from_u128(7));
        std::fs::create_dir_all(home.workspace(attempt)).unwrap();
        std::fs::create_dir_all(folder.path().join("spool")).unwrap();
        for part in ["", "journal", "new"] {
            std::fs::write(home.spool(attempt).with_extension(part), "x").unwrap();
        }
        assert_eq!(home.leftovers(), [attempt]);
        assert!(home.journal(attempt).is_none(), "half a journal is none");
        home.sweep(attempt);
        assert!(home.leftovers().is_empty());
    }
}
