//! Where a job runs: a folder of its own, with what surrounds it on this machine.

use super::control_group::{ControlGroups, JobGroup};
use super::users::{JobUsers, ReservedUser};
use super::{Enclosure, JobUser, Mechanism, PARTS, Sandbox, mounts, sized_disk};
use crate::system::removal::remove_whole;
use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::fs::Permissions;
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// What jobs on this machine have in common.
#[derive(Debug, Default)]
pub struct JobSite {
    /// The folder of the jobs' folders.
    pub folder: PathBuf,
    /// What jobs do not see.
    pub hidden: Vec<PathBuf>,
    /// What they see although it is below a hidden folder.
    pub exposed: Vec<PathBuf>,
    /// The folders in which programs are searched first; jobs see them as well.
    pub paths: RefCell<Vec<PathBuf>>,
    /// The users that they are, where the runner is root and jobs are not.
    pub users: Option<JobUsers>,
    /// Where their use of the machine is limited.
    pub groups: Option<ControlGroups>,
    /// Whether a job with a limit of disk space gets a disk of that size.
    pub sizes_disks: Cell<bool>,
    /// The numbers of folders in use.
    used: Arc<Mutex<BTreeSet<u32>>>,
}

/// A job's folder. It is removed by [`JobFolder::release`], or at the next start of the runner.
pub struct JobFolder {
    path: PathBuf,
    number: u32,
    used: Arc<Mutex<BTreeSet<u32>>>,
    user: Option<JobUser>,
    _reserved: Option<ReservedUser>,
    group: Option<JobGroup>,
    /// Where sockets are that only it can reach, where it has mounts of its own.
    sockets: Option<PathBuf>,
}

impl JobSite {
    /// A site whose jobs run below this folder.
    pub fn at(folder: PathBuf) -> JobSite {
        JobSite {
            folder,
            ..JobSite::default()
        }
    }

    /// Makes a folder for the next job, and says what is to surround it; nothing at the level `none`.
    ///
    /// Errors: what this machine cannot give, for people.
    pub fn surroundings(
        &self,
        policy: JobPolicy,
        mechanism: Mechanism,
    ) -> Result<(JobFolder, Option<Enclosure>), String> {
        let level = policy.isolation;
        if level > IsolationLevel::None && mechanism == Mechanism::Group {
            return Err(mechanism.describe().to_owned());
        }
        let is_open = level == IsolationLevel::None;
        let user = match &self.users {
            Some(users) => {
                let reserved = users
                    .reserve()
                    .map_err(|e| format!("no user for it: {e}"))?;
                let reserved = reserved.ok_or("all user numbers for jobs are in use")?;
                let uid = reserved.uid;
                // Without mounts of its own nothing could show it another user's files as its own.
                let disk = if is_open { uid } else { users.disk() };
                Some((reserved, JobUser { uid, disk }))
            }
            None => None,
        };
        let (reserved, user) = user.unzip();
        if let Some(user) = user.filter(|_| is_open) {
            self.allow_passage(user)?;
        }
        let (number, path) = self.make_folder(user).map_err(|e| {
            format!(
                "its folder cannot be made in {}: {e}",
                self.folder.display()
            )
        })?;
        let group = self
            .groups
            .as_ref()
            .map(|groups| groups.group(&group_name(&self.folder, number), &policy.limits))
            .transpose();
        let sockets = match is_open {
            true => None,
            false => Some(
                self.make_sockets(number)
                    .map_err(|e| format!("the folder of its sockets cannot be made: {e}"))?,
            ),
        };
        let folder = JobFolder {
            path,
            sockets,
            number,
            used: self.used.clone(),
            user,
            _reserved: reserved,
            group: group.map_err(|e| format!("its control group cannot be made: {e}"))?,
        };
        let enclosure = (level > IsolationLevel::None).then(|| Enclosure {
            folder: folder.path.clone(),
            disk: policy
                .limits
                .disk
                .filter(|disk| self.sizes_disks.get() && sized_disk::suits(*disk)),
            hidden: self.hidden.clone(),
            exposed: self
                .exposed
                .iter()
                .chain(self.paths.borrow().iter())
                .chain(&folder.sockets)
                .cloned()
                .collect(),
            sandbox: (level == IsolationLevel::Sandbox).then_some(Sandbox {
                network: policy.network,
            }),
        });
        Ok((folder, enclosure))
    }

    /// Makes an empty folder for the sockets of the job with this number: jobs see their own alone.
    fn make_sockets(&self, number: u32) -> io::Result<PathBuf> {
        let above = self.folder.with_file_name("sockets");
        let path = above.join(number.to_string());
        remove_whole(&path)?;
        std::fs::create_dir_all(&path)?;
        // No other process passes it: the job has its own folder in its mounts.
        std::fs::set_permissions(&above, Permissions::from_mode(0o700))?;
        std::fs::set_permissions(&path, Permissions::from_mode(0o755))?;
        Ok(path)
    }

    /// Lets a user without mounts of its own pass the runner's folder on the way to the job's, and no further: what else is
    /// in it is the runner's alone.
    ///
    /// Errors: a folder above it that the user cannot pass.
    fn allow_passage(&self, user: JobUser) -> Result<(), String> {
        if let Some(runner) = self.folder.parent() {
            let mode =
                |path: &Path, mode| std::fs::set_permissions(path, Permissions::from_mode(mode));
            let closed = ["spool", "log"].map(|part| runner.join(part));
            let made = closed.iter().try_for_each(|part| {
                std::fs::create_dir_all(part)?;
                mode(part, 0o700)
            });
            made.and_then(|()| std::fs::create_dir_all(&self.folder))
                .and_then(|()| mode(&self.folder, 0o711))
                .and_then(|()| mode(runner, 0o711))
                .map_err(|e| format!("{}: {e}", runner.display()))?;
        }
        match mounts::first_closed(&self.folder.join("1"), user.uid) {
            None => Ok(()),
            Some(closed) => Err(format!(
                "users of jobs cannot pass {}: move the runner's folder, or let them (chmod o+x)",
                closed.display()
            )),
        }
    }

    /// Makes the folder with the lowest number that is free, so that builds find the same paths again.
    fn make_folder(&self, user: Option<JobUser>) -> io::Result<(u32, PathBuf)> {
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let free = (1..).find(|number| {
            let path = self.folder.join(number.to_string());
            // What cannot be removed stays until the next start, and another number is taken.
            !used.contains(number) && remove_whole(&path).is_ok()
        });
        let number = free.ok_or(io::ErrorKind::StorageFull)?;
        let path = self.folder.join(number.to_string());
        std::fs::create_dir_all(&self.folder)?;
        let make = |path: &Path| -> io::Result<()> {
            std::fs::DirBuilder::new().mode(0o700).create(path)?;
            match user {
                Some(user) => chown(path, Some(user.disk), Some(user.disk)),
                None => Ok(()),
            }
        };
        make(&path)?;
        for part in PARTS {
            make(&path.join(part))?;
        }
        used.insert(number);
        Ok((number, path))
    }
}

/// A name for a job's control group, different for each runner of the machine.
fn group_name(folder: &Path, number: u32) -> String {
    let text = folder.display().to_string();
    let plain: String = text
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .collect();
    format!("job{plain}-{number}")
}

impl JobFolder {
    /// The folder itself.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The user that the job is, where the runner is root.
    pub fn user(&self) -> Option<JobUser> {
        self.user
    }

    /// Where sockets of the runner's are that it can reach.
    pub fn sockets(&self) -> &Path {
        self.sockets.as_deref().unwrap_or(&self.path)
    }

    /// Whether these are in a folder that nothing but the job's mounts leads to.
    pub fn has_own_sockets(&self) -> bool {
        self.sockets.is_some()
    }

    /// Where the command begins.
    pub fn workspace(&self) -> PathBuf {
        self.path.join("workspace")
    }

    /// Its home.
    pub fn home(&self) -> PathBuf {
        self.path.join("home")
    }

    /// Its temporary files.
    pub fn temporary(&self) -> PathBuf {
        self.path.join("tmp")
    }

    /// The files through which its processes join their control groups.
    pub fn membership_files(&self) -> Vec<PathBuf> {
        self.group
            .as_ref()
            .map(JobGroup::membership_files)
            .unwrap_or_default()
    }

    /// Whether the kernel ended a process of it because the limit of memory was reached.
    pub fn was_out_of_memory(&self) -> bool {
        self.group.as_ref().is_some_and(JobGroup::was_out_of_memory)
    }

    /// Removes the folder with everything in it. Its processes must have ended.
    pub async fn release(self) {
        let path = self.path.clone();
        let removed = tokio::task::spawn_blocking(move || {
            let removed = remove_whole(&self.path);
            let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
            used.remove(&self.number);
            removed
        });
        if let Ok(Err(error)) = removed.await {
            tracing::warn!(%error, folder = %path.display(), "a job's folder cannot be removed; retried later");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn folders_have_the_lowest_free_number_and_are_empty() {
        let root = tempfile::tempdir().unwrap();
        let site = JobSite::at(root.path().join("work"));
        let make = || {
            let none = JobPolicy {
                isolation: IsolationLevel::None,
                ..JobPolicy::default()
            };
            site.surroundings(none, Mechanism::Group).unwrap().0
        };
        let (first, second) = (make(), make());
        assert_eq!(first.path(), root.path().join("work/1"));
        assert_eq!(second.path(), root.path().join("work/2"));
        std::fs::write(first.workspace().join("left"), "x").unwrap();
        first.release().await;
        let third = make();
        assert_eq!(third.path(), root.path().join("work/1"));
        assert!(third.home().is_dir() && third.temporary().is_dir());
        assert_eq!(third.workspace().read_dir().unwrap().count(), 0);
    }

    #[test]
    fn a_machine_without_namespaces_isolates_nothing() {
        let root = tempfile::tempdir().unwrap();
        let site = JobSite::at(root.path().join("work"));
        let refused = site.surroundings(JobPolicy::default(), Mechanism::Group);
        assert!(refused.is_err_and(|message| message.contains("not available")));
    }
}
