//! The users that jobs are where the runner is root: one per job at a time, over all runners of the machine.

use crate::share::{NumberLock, NumberedLocks};
use std::io;
use std::path::PathBuf;

/// The folder of the locks of user numbers in use; only root can write it.
const LOCKS: &str = "/run/pennine-runner/users";

/// A range of user numbers for jobs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct UserRange {
    /// The user that owns jobs' files on disk.
    pub disk: u32,
    /// The first number for a job.
    pub first: u32,
    /// How many there are.
    pub count: u32,
}

impl Default for UserRange {
    /// Numbers that neither the Linux Standard Base nor systemd nor subordinate ids use by default: 70000 to 70256.
    fn default() -> Self {
        UserRange {
            disk: 70_000,
            first: 70_001,
            count: 256,
        }
    }
}

/// Why a text is no range of user numbers.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error(
    "a range of user numbers is FIRST-LAST, of at least 2 and at most 4096 numbers from 1000 on, such as 70000-70256"
)]
pub struct NotARange;

impl std::str::FromStr for UserRange {
    type Err = NotARange;

    fn from_str(text: &str) -> Result<Self, NotARange> {
        let (first, last) = text.split_once('-').ok_or(NotARange)?;
        let number = |text: &str| text.trim().parse::<u32>().map_err(|_| NotARange);
        let (disk, last) = (number(first)?, number(last)?);
        let count = last.checked_sub(disk).ok_or(NotARange)?;
        if disk < 1000 || last == u32::MAX || !(1..=4096).contains(&count) {
            return Err(NotARange);
        }
        Ok(UserRange {
            disk,
            first: disk + 1,
            count,
        })
    }
}

/// Whether all users of a range exist in this process's namespace of users (user_namespaces(7), `uid_map`).
pub fn exist(range: UserRange) -> bool {
    let map = std::fs::read_to_string("/proc/self/uid_map").unwrap_or_default();
    covers(&map, range)
}

fn covers(map: &str, range: UserRange) -> bool {
    map.lines().any(|line| {
        let mut numbers = line
            .split_whitespace()
            .map_while(|word| word.parse::<u64>().ok());
        let (inside, _, count) = (numbers.next(), numbers.next(), numbers.next());
        let (Some(inside), Some(count)) = (inside, count) else {
            return false;
        };
        let last = u64::from(range.first) + u64::from(range.count);
        inside <= u64::from(range.disk) && last <= inside + count
    })
}

/// A user number that is this job's alone until it is dropped.
pub struct ReservedUser {
    pub uid: u32,
    _lock: NumberLock,
}

/// Hands out user numbers.
#[derive(Clone, Debug)]
pub struct JobUsers {
    range: UserRange,
    locks: NumberedLocks,
}

impl JobUsers {
    /// The users of this range, kept apart from those of other runners by locks.
    pub fn of(range: UserRange) -> io::Result<JobUsers> {
        JobUsers::kept_in(PathBuf::from(LOCKS), range)
    }

    /// The same, with the locks in another folder.
    pub fn kept_in(folder: PathBuf, range: UserRange) -> io::Result<JobUsers> {
        Ok(JobUsers {
            range,
            locks: NumberedLocks::new(folder, "user", range.first, range.count, 0o600)?,
        })
    }

    /// The user that owns jobs' files on disk.
    pub fn disk(&self) -> u32 {
        self.range.disk
    }

    /// A user that no other job is; none when all are in use.
    pub fn reserve(&self) -> io::Result<Option<ReservedUser>> {
        let taken = self.locks.take()?;
        Ok(taken.map(|(uid, lock)| ReservedUser { uid, _lock: lock }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_read_and_a_wrong_one_refused() {
        let range = |disk, count| UserRange {
            disk,
            first: disk + 1,
            count,
        };
        assert_eq!("70000-70256".parse(), Ok(UserRange::default()));
        assert_eq!("2000-2001".parse(), Ok(range(2000, 1)));
        for wrong in [
            "",
            "70000",
            "70000-70000",
            "0-100",
            "5000-4000",
            "1000-9000",
            "a-b",
        ] {
            assert_eq!(wrong.parse::<UserRange>(), Err(NotARange), "{wrong}");
        }
    }

    #[test]
    fn a_container_may_lack_the_users_of_jobs() {
        let range = UserRange::default();
        assert!(covers("         0          0 4294967295\n", range));
        assert!(covers("0 1000 1\n1 100000 80000\n", range));
        for lacking in ["", "0 1000 1\n", "0 0 1\n1 100000 65536\n"] {
            assert!(!covers(lacking, range), "{lacking}");
        }
    }

    #[test]
    fn no_two_jobs_are_the_same_user() {
        let folder = tempfile::tempdir().unwrap();
        let range = "2000-2002".parse().unwrap();
        let users = || JobUsers::kept_in(folder.path().join("users"), range).unwrap();
        let (one, other) = (users(), users());
        let first = one.reserve().unwrap().unwrap();
        let second = other.reserve().unwrap().unwrap();
        assert_eq!((first.uid, second.uid), (2001, 2002));
        assert!(one.reserve().unwrap().is_none());
        drop(first);
        assert_eq!(other.reserve().unwrap().unwrap().uid, 2001);
    }
}
