//! What the runners of one host share by locks: a limit of jobs at once, and the numbers of users.
//!
//! A shared thing is a folder with a file for each number. Who has a number holds the lock of its file, which the system
//! releases with the process, however that ends.

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

/// Numbers of which each can be had once at a time.
#[derive(Clone, Debug)]
pub struct NumberedLocks {
    folder: PathBuf,
    name: &'static str,
    first: u32,
    count: u32,
    mode: u32,
}

/// The lock of one number; the number is free again when this is dropped.
pub struct NumberLock(File);

impl Drop for NumberLock {
    fn drop(&mut self) {
        // Closing alone does not release a lock whose descriptor a child that another thread is just starting still has.
        // Where this fails, the lock is released with that child's copy.
        let _ = self.0.unlock();
    }
}

impl NumberedLocks {
    /// The numbers from `first` on, kept by locks on files `NAME-NUMBER` in a folder, which is made if it is missing.
    pub fn new(
        folder: PathBuf,
        name: &'static str,
        first: u32,
        count: u32,
        mode: u32,
    ) -> io::Result<NumberedLocks> {
        std::fs::create_dir_all(&folder)?;
        let locks = NumberedLocks {
            folder,
            name,
            first,
            count,
            mode,
        };
        // What is wrong with the folder is wrong now, and not when a job comes.
        locks.lock(first)?;
        Ok(locks)
    }

    fn numbers(&self) -> std::ops::Range<u32> {
        self.first..self.first.saturating_add(self.count)
    }

    fn lock(&self, number: u32) -> io::Result<Option<NumberLock>> {
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .mode(self.mode)
            .open(self.folder.join(format!("{}-{number}", self.name)))?;
        match file.try_lock() {
            Ok(()) => Ok(Some(NumberLock(file))),
            Err(TryLockError::WouldBlock) => Ok(None),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }

    /// The lowest free number with its lock; none when all are taken.
    pub fn take(&self) -> io::Result<Option<(u32, NumberLock)>> {
        for number in self.numbers() {
            if let Some(file) = self.lock(number)? {
                return Ok(Some((number, file)));
            }
        }
        Ok(None)
    }

    /// How many numbers are free just now.
    pub fn free(&self) -> io::Result<u32> {
        let mut free = 0;
        for number in self.numbers() {
            free += u32::from(self.lock(number)?.is_some());
        }
        Ok(free)
    }
}

/// A shared limit of the runners of one host: how many jobs may run on it at once. A runner tells the service how much
/// room is left, and does not begin what was given to it when another runner was quicker.
#[derive(Clone, Debug)]
pub struct HostLimit(NumberedLocks);

/// One job's place; given back when dropped.
pub struct SharePlace(#[allow(dead_code)] NumberLock);

impl HostLimit {
    /// A limit of this many jobs, kept by locks in a folder, which is made if it is missing.
    pub fn new(folder: PathBuf, jobs: u32) -> io::Result<HostLimit> {
        // Runners of several users may share it, where the folder lets them.
        Ok(HostLimit(NumberedLocks::new(
            folder, "job", 0, jobs, 0o666,
        )?))
    }

    /// A place for one job; none when as many run as may.
    pub fn take(&self) -> io::Result<Option<SharePlace>> {
        Ok(self.0.take()?.map(|(_, lock)| SharePlace(lock)))
    }

    /// How many places are free just now.
    pub fn free(&self) -> io::Result<u32> {
        self.0.free()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_hands_out_no_more_permits_than_it_has() {
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

    #[test]
    fn a_number_is_free_as_soon_as_its_lock_is_dropped_although_a_child_has_a_copy() {
        let folder = tempfile::tempdir().unwrap();
        let locks = NumberedLocks::new(folder.path().join("users"), "user", 7, 1, 0o600).unwrap();
        let (_, lock) = locks.take().unwrap().unwrap();
        let copy = lock.0.try_clone().unwrap();
        drop(lock);
        assert_eq!(locks.free().unwrap(), 1);
        drop(copy);
    }
}
