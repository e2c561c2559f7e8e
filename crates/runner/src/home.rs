//! The runner's folder: who it is, and what it is working on.
//!
//! ```text
//!   runner.json   the service, the runner's name, its credential, its pool's policy (mode 0600)
//!   log/          its own log, a file a day
//!   ca.pem        the certificate authority that it trusts for the service, where one was given
//!   lock          held while a runner works here
//!   machine.toml  what jobs may reach on this machine
//!   work/N        the folder of a job: its workspace, its home, its temporary files
//!   sockets/N     what that job asks its runner through
//!   spool/ATTEMPT the part of its log not yet uploaded; spool/ATTEMPT.journal: the attempt's state
//! ```

use crate::error::Error;
use crate::journal::Journal;
use crate::system::removal::remove_whole;
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::job_policy::JobPolicy;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
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
    /// What the pool's jobs may reach and use, as the service sent it last.
    #[serde(default)]
    pub policy: JobPolicy,
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

/// Disk space that is reserved for journals, in bytes: hundreds of them.
const RESERVED: usize = 256 << 10;

impl Home {
    /// The folder at this path, made if it is not there.
    pub fn at(path: &Path) -> Result<Home, Error> {
        let broken = |e: std::io::Error| Error::Folder(path.to_owned(), e.to_string());
        // The folder is the runner's alone; those above it are as any other.
        if let Some(above) = path.parent() {
            std::fs::create_dir_all(above).map_err(broken)?;
        }
        match std::fs::DirBuilder::new().mode(0o700).create(path) {
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists || !path.is_dir() => {
                return Err(broken(error));
            }
            _ => {}
        }
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

    /// The authorities that this runner trusts for the service beside the usual ones (PEM), where some were given.
    pub fn authorities(&self) -> Result<Option<Vec<u8>>, Error> {
        let path = self.0.join("ca.pem");
        match std::fs::read(&path) {
            Ok(pem) => Ok(Some(pem)),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(Error::Folder(path, error.to_string())),
        }
    }

    /// Writes down which authorities it trusts for the service.
    pub fn set_authorities(&self, pem: &[u8]) -> Result<(), Error> {
        let path = self.0.join("ca.pem");
        let new = path.with_extension("new");
        std::fs::write(&new, pem)
            .and_then(|()| std::fs::rename(&new, &path))
            .map_err(|error| Error::Folder(path, error.to_string()))
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

    /// Changes what is written down of this runner; nothing where it has left meanwhile.
    pub fn change_identity(&self, change: impl FnOnce(&mut Identity)) -> Result<(), Error> {
        let Some(mut identity) = self.identity()? else {
            return Ok(());
        };
        change(&mut identity);
        self.set_identity(&identity)
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

    /// The log of an attempt on its way to the service.
    pub fn spool(&self, attempt: AttemptId) -> PathBuf {
        self.0.join("spool").join(attempt.to_string())
    }

    fn journal_path(&self, attempt: AttemptId) -> PathBuf {
        self.spool(attempt).with_extension("journal")
    }

    /// Writes down how an attempt stands, on a full disk in the space that was reserved for that. The file is there whole or
    /// not at all, whenever this program ends.
    pub fn keep_journal(&self, attempt: AttemptId, journal: &Journal) -> std::io::Result<()> {
        match self.write_journal(attempt, journal) {
            Err(error) if error.kind() == std::io::ErrorKind::StorageFull => {
                std::fs::remove_file(self.reserve_path())?;
                self.write_journal(attempt, journal)
            }
            written => written,
        }
    }

    fn reserve_path(&self) -> PathBuf {
        self.0.join("reserve")
    }

    /// Reserves disk space for journals, unless that was done, so that a job that fills the disk does not keep its own end from
    /// being recorded.
    pub fn reserve_space(&self) {
        let path = self.reserve_path();
        if std::fs::metadata(&path).is_ok_and(|file| file.len() > 0) {
            return;
        }
        // Written, since a file with a hole takes no space.
        if let Err(error) = std::fs::write(&path, vec![b'-'; RESERVED]) {
            tracing::debug!(%error, "no disk space can be reserved");
            let _ = std::fs::remove_file(&path);
        }
    }

    fn write_journal(&self, attempt: AttemptId, journal: &Journal) -> std::io::Result<()> {
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

    /// Removes the log and the journal of an attempt.
    pub fn sweep(&self, attempt: AttemptId) {
        let _ = std::fs::remove_file(self.spool(attempt));
        let _ = std::fs::remove_file(self.journal_path(attempt));
        // Left where this program was killed while it wrote the journal.
        let _ = std::fs::remove_file(self.spool(attempt).with_extension("new"));
        self.reserve_space();
    }

    /// Removes the folders of jobs of an earlier run. What cannot be removed is retried at the next start.
    pub fn clear_jobs(&self) {
        let entries = std::fs::read_dir(self.0.join("work"));
        for entry in entries.into_iter().flatten().flatten() {
            if let Err(error) = remove_whole(&entry.path()) {
                tracing::warn!(%error, folder = %entry.path().display(), "a job's folder cannot be removed; retried at the next start");
            }
        }
    }

    /// Attempts that left something in the folder.
    pub fn leftovers(&self) -> Vec<AttemptId> {
        let entries = std::fs::read_dir(self.0.join("spool"));
        let names = entries
            .into_iter()
            .flatten()
            .flatten()
            .map(|entry| entry.file_name());
        let mut found: Vec<AttemptId> = names
            .filter_map(|name| Path::new(&name).file_stem()?.to_str()?.parse().ok())
            .collect();
        found.sort();
        found.dedup();
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn space_for_journals_is_taken_on_the_disk() {
        use std::os::unix::fs::MetadataExt;
        let folder = tempfile::tempdir().unwrap();
        let home = Home::at(folder.path()).unwrap();
        home.reserve_space();
        let reserved = std::fs::metadata(home.reserve_path()).unwrap();
        assert!(reserved.blocks() * 512 >= RESERVED as u64, "{reserved:?}");
        std::fs::remove_file(home.reserve_path()).unwrap();
        home.sweep(AttemptId(Uuid::from_u128(7)));
        assert!(
            home.reserve_path().exists(),
            "reserved again once there is room"
        );
    }

    #[test]
    fn leftovers_of_an_attempt_are_found_and_removed() {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::at(folder.path()).unwrap();
        let attempt = AttemptId(Uuid::from_u128(7));
        std::fs::create_dir_all(folder.path().join("spool")).unwrap();
        for part in ["", "journal", "new"] {
            std::fs::write(home.spool(attempt).with_extension(part), "x").unwrap();
        }
        assert_eq!(home.leftovers(), [attempt]);
        assert!(home.journal(attempt).is_none(), "half a journal is none");
        home.sweep(attempt);
        assert!(home.leftovers().is_empty());
        std::fs::create_dir_all(folder.path().join("work/1/workspace")).unwrap();
        home.clear_jobs();
        assert!(!folder.path().join("work/1").exists());
    }
}
