//! The mounts that a job sees: its own folder, private temporary files, and nothing of the runner's.
//!
//! All of it happens in a mount namespace that a keeper has just made, before any job runs in it.
#![allow(unsafe_code)]

use super::{Enclosure, JobUser};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::sys::wait::waitpid;
use nix::unistd::{ForkResult, fork, pipe, setfsgid, setfsuid};
use rustix::mount::{MoveMountFlags, OpenTreeFlags, move_mount, open_tree};
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// The size of the empty file system that hides a folder; it only holds the folders on the way to what is visible.
const COVER: &str = "size=256k,nr_inodes=256,mode=0755";

/// Sets the mounts up for a user of the job's own, if it has one. `map` shows the folder's files as the job's own where they are another user's on disk.
///
/// Errors: the step that failed.
pub fn enclose(
    enclosure: &Enclosure,
    user: Option<JobUser>,
    map: Option<&File>,
) -> Result<(), String> {
    let step = |what: &str, error: &dyn std::fmt::Display| format!("{what}: {error}");
    // Trees are taken before anything covers them.
    let take = |path: &Path| -> Result<OwnedFd, String> {
        let tree = tree_at(path).map_err(|e| step(&path.display().to_string(), &e))?;
        if let Some(map) = map {
            map_ids(&tree, map)
                .map_err(|e| step(&format!("{}: cannot map its owner", path.display()), &e))?;
        }
        Ok(tree)
    };
    let folder = take(&enclosure.folder)?;
    let temporary = [PathBuf::from("/tmp"), PathBuf::from("/var/tmp")];
    let temporary = temporary.into_iter().filter(|path| path.is_dir());
    let temporary: Vec<(PathBuf, OwnedFd)> = temporary
        .map(|path| Ok((path, take(&enclosure.folder.join("tmp"))?)))
        .collect::<Result<_, String>>()?;
    let exposed: Vec<(&PathBuf, OwnedFd, bool)> = enclosure
        .exposed
        .iter()
        .filter(|path| path.exists())
        .map(|path| {
            let tree = tree_at(path).map_err(|e| step(&path.display().to_string(), &e))?;
            Ok((path, tree, path.is_dir()))
        })
        .collect::<Result<_, String>>()?;

    for (path, tree) in temporary {
        attach(&tree, &path).map_err(|e| step(&path.display().to_string(), &e))?;
    }
    for path in hidden(enclosure, user) {
        cover(&path).map_err(|e| step(&format!("{} cannot be hidden", path.display()), &e))?;
    }
    let uid = user.map(|user| user.uid);
    attach_at(&folder, &enclosure.folder, true, uid)
        .map_err(|e| step(&enclosure.folder.display().to_string(), &e))?;
    for (path, tree, is_folder) in exposed {
        attach_at(&tree, path, is_folder, uid)
            .map_err(|e| step(&path.display().to_string(), &e))?;
    }
    own_devices().map_err(|e| step("/dev", &e))
}

/// The folders to hide, those above others first and none twice. What does not exist is left out.
fn hidden(enclosure: &Enclosure, user: Option<JobUser>) -> Vec<PathBuf> {
    let mut paths: Vec<PathBuf> = enclosure
        .hidden
        .iter()
        .filter_map(|path| path.canonicalize().ok())
        .filter(|path| path.parent().is_some())
        .collect();
    if let Some(user) = user
        && let Some(closed) = first_closed(&enclosure.folder, user.uid)
    {
        paths.push(closed);
    }
    paths.sort();
    paths.dedup();
    let mut kept: Vec<PathBuf> = Vec::new();
    for path in paths {
        if !kept.iter().any(|above| path.starts_with(above)) {
            kept.push(path);
        }
    }
    kept
}

/// Returns the first folder on the way to this one that a user may not pass. Hidden, it does not stand in the way.
pub fn first_closed(folder: &Path, uid: u32) -> Option<PathBuf> {
    let mut way: Vec<&Path> = folder.ancestors().skip(1).collect();
    way.reverse();
    let closed = way.into_iter().find(|path| {
        path.metadata().is_ok_and(|about| {
            let bit = if about.uid() == uid { 0o100 } else { 0o001 };
            about.mode() & bit == 0
        })
    })?;
    (closed.parent().is_some()).then(|| closed.to_owned())
}

/// A copy of the mounts at and below a path, attached nowhere yet.
fn tree_at(path: &Path) -> io::Result<OwnedFd> {
    let flags = OpenTreeFlags::OPEN_TREE_CLONE
        | OpenTreeFlags::OPEN_TREE_CLOEXEC
        | OpenTreeFlags::AT_RECURSIVE;
    Ok(open_tree(rustix::fs::CWD, path, flags)?)
}

/// Attaches a tree on top of what is at a path.
fn attach(tree: &OwnedFd, path: &Path) -> io::Result<()> {
    let flags = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH;
    Ok(move_mount(tree, "", rustix::fs::CWD, path, flags)?)
}

/// The same; what is missing on the way is made, by root or, in the job's own temporary files, by the job's user.
fn attach_at(tree: &OwnedFd, path: &Path, is_folder: bool, uid: Option<u32>) -> io::Result<()> {
    match (make_way(path, is_folder), uid) {
        (Err(error), Some(uid)) if error.raw_os_error() == Some(nix::libc::EOVERFLOW) => {
            let before = (setfsuid(uid.into()), setfsgid(uid.into()));
            let made = make_way(path, is_folder);
            setfsuid(before.0);
            setfsgid(before.1);
            made
        }
        (made, _) => made,
    }?;
    attach(tree, path)
}

/// Makes a folder or an empty file, with the folders above it.
fn make_way(path: &Path, is_folder: bool) -> io::Result<()> {
    if is_folder {
        return std::fs::create_dir_all(path);
    }
    if let Some(above) = path.parent() {
        std::fs::create_dir_all(above)?;
    }
    if !path.exists() {
        File::create(path)?;
    }
    Ok(())
}

/// Puts an empty folder on top of one, and nothing on top of what is no folder. What is not visible any more is left as
/// it is.
fn cover(path: &Path) -> nix::Result<()> {
    if !path.is_dir() {
        let none = None::<&str>;
        let bind = MsFlags::MS_BIND;
        return match mount(Some("/dev/null"), path, none, bind, none) {
            Err(nix::Error::ENOENT) => Ok(()),
            other => other,
        };
    }
    let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV;
    mount(Some("tmpfs"), path, Some("tmpfs"), flags, Some(COVER))
}

/// Shared memory and message queues of the job's own.
fn own_devices() -> nix::Result<()> {
    let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV;
    if Path::new("/dev/shm").is_dir() {
        mount(
            Some("tmpfs"),
            "/dev/shm",
            Some("tmpfs"),
            flags,
            Some("mode=1777"),
        )?;
    }
    if Path::new("/dev/mqueue").is_dir() {
        // Where it cannot be mounted there are no queues of others in it either.
        let _ = mount(
            Some("mqueue"),
            "/dev/mqueue",
            Some("mqueue"),
            flags,
            None::<&str>,
        );
    }
    Ok(())
}

/// `struct mount_attr` of the kernel (include/uapi/linux/mount.h).
#[repr(C)]
struct MountAttributes {
    set: u64,
    clear: u64,
    propagation: u64,
    user_namespace: u64,
}

/// `MOUNT_ATTR_IDMAP` of the kernel.
const IDMAP: u64 = 0x0010_0000;

/// Shows the owner of a tree's files through a user namespace's map, without touching the files.
fn map_ids(tree: &OwnedFd, map: &File) -> io::Result<()> {
    let attributes = MountAttributes {
        set: IDMAP,
        clear: 0,
        propagation: 0,
        user_namespace: u64::try_from(map.as_raw_fd()).unwrap_or_default(),
    };
    // SAFETY: the path is empty and NUL-terminated, the structure lives through the call and its size is given.
    let result = unsafe {
        nix::libc::syscall(
            nix::libc::SYS_mount_setattr,
            tree.as_raw_fd(),
            c"".as_ptr(),
            nix::libc::AT_EMPTY_PATH | nix::libc::AT_RECURSIVE,
            &raw const attributes,
            std::mem::size_of::<MountAttributes>(),
        )
    };
    if result == 0 {
        Ok(())
    } else {
        Err(io::Error::last_os_error())
    }
}

/// Returns a user namespace that shows a user of the disk as another one.
pub fn id_map(disk: u32, shown: u32) -> io::Result<File> {
    let (ready, tell) = pipe()?;
    let (wait, go) = pipe()?;
    // SAFETY: this process has one thread.
    match unsafe { fork()? } {
        ForkResult::Child => {
            drop((ready, go));
            let made = unshare(CloneFlags::CLONE_NEWUSER).is_ok();
            let _ = File::from(tell).write_all(&[u8::from(made)]);
            // It lives until the parent holds the namespace.
            let _ = File::from(wait).read(&mut [0]);
            // SAFETY: the child ends here, without what the parent has registered for its own end.
            unsafe { nix::libc::_exit(0) }
        }
        ForkResult::Parent { child } => {
            drop((tell, wait));
            let mut made = [0];
            let told = File::from(ready).read_exact(&mut made);
            let namespace = told.and_then(|()| {
                let proc = PathBuf::from(format!("/proc/{child}"));
                let line = format!("{disk} {shown} 1");
                std::fs::write(proc.join("uid_map"), &line)?;
                std::fs::write(proc.join("gid_map"), &line)?;
                File::open(proc.join("ns/user"))
            });
            drop(go);
            let _ = waitpid(child, None);
            namespace
        }
    }
}
