//! A shared limit of the runners of one host: how many jobs may run on it at once.
//!
//! It is a folder with a file for each job that may run. A job holds the lock of one, which the system lets go of with the
//! process, however that ends. A runner tells the service how much room is left, and does not begin what was given to it
//! when another runner was quicker.

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

/// The limit.
#[derive(Clone, Debug)]
pub struct HostLimit {
    folder: PathBuf,
    jobs: u32,
}

/// One job's place; given back when dropped.
pub struct SharePlace(#[allow(dead_code)] File);

impl HostLimit {
    /// A limit of this many jobs, kept by locks in a folder, which is made if it is missing.
    pub fn new(folder: PathBuf, jobs: u32) -> io::Result<HostLimit> {
        std::fs::create_dir_all(&folder)?;
        let limit = HostLimit { folder, jobs };
        // What is wrong with the folder is wrong now, and not when a job comes.
        limit.free()?;
        Ok(limit)
    }

    fn lock(&self, number: u32) -> io::Result<Option<File>> {
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            // Runners of several users may share it, where the folder lets them.
            .mode(0o666)
            .open(self.folder.join(format!("job-{number}")))?;
        match file.try_lock() {
            Ok(()) => Ok(Some(file)),
            Err(TryLockError::WouldBlock) => Ok(None),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }

    /// A place for one job; none when as many run as may.
    pub fn take(&self) -> io::Result<Option<SharePlace>> {
        for number in 0..self.jobs {
            if let Some(file) = self.lock(number)? {
                return Ok(Some(SharePlace(file)));
            }
        }
        Ok(None)
    }

    /// How many places are free just now.
    pub fn free(&self) -> io::Result<u32> {
        let mut free = 0;
        for number in 0..self.jobs {
            free += u32::from(self.lock(number)?.is_some());
        }
        Ok(free)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_places_are_given_than_there_are_and_each_comes_back() {
        let folder = tempfile::tempdir().unwrap();
        let one = HostLimit::new(folder.path().join("host"), 2).unwrap();
        let other = HostLimit::new(folder.path().join("host"), 2).unwrap();
        let (first, second) = (one.take().unwrap(), other.take().unwrap());
        assert!(first.is_some() && second.is_some());
        assert!(one.take().unwrap().is_none());
        assert_eq!(other.free().unwrap(), 0);
        drop(first);
        assert_eq!(other.free().unwrap(), 1);
        assert!(other.take().unwrap().is_some());
    }
}
