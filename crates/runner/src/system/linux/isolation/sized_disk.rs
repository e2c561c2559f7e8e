//! A disk of a fixed size for one job: a file system in a file, mounted on the job's folder in its own mount namespace. What the
//! job writes is then limited by the kernel, however it writes it, and the disk is gone with the job's last process.
//!
//! The file is sparse: it takes no more of the machine's disk than the job has written.

use super::{JobUser, PARTS};
use nix::sys::statvfs::statvfs;
use pennine_core::size::ByteSize;
use std::fs::{File, OpenOptions, Permissions};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// The file, in the job's folder; what is mounted there hides it from the job.
const IMAGE: &str = "disk";
/// The devices through which a file becomes a file system.
const DEVICES: &str = "/dev/loop-control";
/// Makes a file system; in e2fsprogs.
const MAKE: [&str; 2] = ["/usr/sbin/mkfs.ext4", "/sbin/mkfs.ext4"];
/// What the file system needs for itself: this much, and a part of its size.
const OVERHEAD: u64 = 2 << 20;
const OVERHEAD_PART: u64 = 16;
/// No disk is made larger than this: making one of 1 TiB takes 0.2 s and 12 MB, and far beyond it a file system ends.
const LARGEST: ByteSize = ByteSize(1 << 40);
/// With less space than this a disk is full.
const FULL: u64 = 64 << 10;

fn make_program() -> Option<&'static str> {
    MAKE.into_iter().find(|path| Path::new(path).exists())
}

/// Whether trying makes sense: the devices and the program are there.
pub fn is_conceivable() -> bool {
    make_program().is_some() && OpenOptions::new().read(true).open(DEVICES).is_ok()
}

/// Whether a limit is kept by a disk of its size; a larger one has to be measured.
pub fn suits(limit: ByteSize) -> bool {
    limit <= LARGEST
}

/// Puts an empty disk of this size on a job's folder, with the folder's parts in it. Needs a mount namespace that no other process
/// is in.
///
/// Errors: the step that failed, for people.
pub fn attach(folder: &Path, size: ByteSize, owner: Option<JobUser>) -> Result<(), String> {
    let step =
        |what: &str, error: &dyn std::fmt::Display| format!("its disk of {size}: {what}: {error}");
    let image = folder.join(IMAGE);
    let whole = size
        .0
        .saturating_add(size.0 / OVERHEAD_PART)
        .saturating_add(OVERHEAD);
    OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(&image)
        .and_then(|file: File| file.set_len(whole))
        .map_err(|e| step("its file", &e))?;
    let number = owner.map_or(0, |user| user.disk);
    let mut make = Command::new(make_program().ok_or_else(|| step("mkfs.ext4", &"not installed"))?);
    // Without a journal: after a crash the job is over, and its disk is made anew.
    make.args([
        "-q",
        "-F",
        "-m",
        "0",
        "-O",
        "^has_journal,^resize_inode",
        "-E",
    ])
    .arg(format!(
        "lazy_itable_init=1,nodiscard,root_owner={number}:{number}"
    ))
    .arg(&image);
    run(make).map_err(|e| step("mkfs.ext4", &e))?;
    let mut mount = Command::new("/bin/mount");
    mount
        .args(["-n", "-t", "ext4", "-o", "loop,nosuid,nodev,noatime"])
        .args([&image, folder]);
    run(mount).map_err(|e| step("mount", &e))?;
    let _ = std::fs::remove_dir(folder.join("lost+found"));
    let own = |path: PathBuf, is_new: bool| {
        if is_new {
            std::fs::create_dir(&path)?;
        }
        std::fs::set_permissions(&path, Permissions::from_mode(0o700))?;
        chown(&path, Some(number), Some(number))
    };
    let parts = PARTS
        .iter()
        .try_for_each(|part| own(folder.join(part), true));
    parts
        .and_then(|()| own(folder.to_owned(), false))
        .map_err(|e| step("its folders", &e))
}

/// Runs a program, which prints only what is wrong.
fn run(mut command: Command) -> Result<(), String> {
    let output = command
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .stdin(Stdio::null())
        .output()
        .map_err(|e| e.to_string())?;
    if output.status.success() {
        return Ok(());
    }
    let message = String::from_utf8_lossy(&output.stderr);
    Err(match message.lines().last() {
        Some(line) => line.trim().to_owned(),
        None => output.status.to_string(),
    })
}

/// Whether the disk on a folder has no space left.
pub fn is_full(folder: &Path) -> bool {
    statvfs(folder).is_ok_and(|disk| {
        disk.blocks_available() * disk.fragment_size() < FULL || disk.files_available() == 0
    })
}
