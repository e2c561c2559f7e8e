//! What a job uses, measured from outside where the kernel does not limit it.

use pennine_core::size::ByteSize;
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// What a job's processes use together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ProcessUsage {
    pub memory: ByteSize,
    pub processes: u32,
}

/// Measures the descendants of a process, itself left out. A process may start or end meanwhile: it is an estimate.
///
/// Memory is what is resident and not shared with files or others (proc(5), `statm`).
pub fn of_descendants(root: i32) -> ProcessUsage {
    let mut children: BTreeMap<i32, Vec<i32>> = BTreeMap::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let pid = entry
            .file_name()
            .to_str()
            .and_then(|name| name.parse().ok());
        if let Some((pid, parent)) = pid.and_then(|pid| Some((pid, parent_of(pid)?))) {
            children.entry(parent).or_default().push(pid);
        }
    }
    let page = page_size();
    let mut usage = ProcessUsage::default();
    let mut ahead = children.remove(&root).unwrap_or_default();
    while let Some(pid) = ahead.pop() {
        usage.processes += threads_of(pid);
        usage.memory.0 += own_pages(pid).unwrap_or(0).saturating_mul(page);
        ahead.extend(children.remove(&pid).unwrap_or_default());
    }
    usage
}

fn page_size() -> u64 {
    let size = nix::unistd::sysconf(nix::unistd::SysconfVar::PAGE_SIZE);
    size.ok()
        .flatten()
        .and_then(|size| u64::try_from(size).ok())
        .unwrap_or(4096)
}

/// The parent of a process (proc(5), `stat`: the name is in brackets and may hold anything).
fn parent_of(pid: i32) -> Option<i32> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let (_, rest) = stat.rsplit_once(')')?;
    rest.split_whitespace().nth(1)?.parse().ok()
}

fn threads_of(pid: i32) -> u32 {
    let threads = fs::read_dir(format!("/proc/{pid}/task"));
    threads.map_or(0, |threads| {
        u32::try_from(threads.count()).unwrap_or(u32::MAX)
    })
}

fn own_pages(pid: i32) -> Option<u64> {
    let statm = fs::read_to_string(format!("/proc/{pid}/statm")).ok()?;
    let mut numbers = statm
        .split_whitespace()
        .skip(1)
        .map_while(|one| one.parse::<u64>().ok());
    let (resident, shared) = (numbers.next()?, numbers.next()?);
    Some(resident.saturating_sub(shared))
}

/// The disk space of a folder with everything below it, links not followed. Files that cannot be read count nothing.
///
/// Stops as soon as it is more than `enough`, so that a full disk is not read to its end.
pub fn of_folder(folder: &Path, enough: ByteSize) -> ByteSize {
    let mut used = 0u64;
    let mut ahead = vec![PathBuf::from(folder)];
    while let Some(folder) = ahead.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let Ok(about) = entry.metadata() else {
                continue;
            };
            // A file with several names counts in part for each.
            used += about.blocks().saturating_mul(512) / about.nlink().max(1);
            if about.is_dir() {
                ahead.push(entry.path());
            }
        }
        if used > enough.0 {
            break;
        }
    }
    ByteSize(used)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_measured_until_it_is_too_large() {
        let folder = tempfile::tempdir().unwrap();
        let below = folder.path().join("below");
        fs::create_dir(&below).unwrap();
        fs::write(below.join("file"), vec![7; 300_000]).unwrap();
        let all = of_folder(folder.path(), ByteSize(1 << 30));
        assert!((300_000..400_000).contains(&all.0), "{all:?}");
        assert!(of_folder(folder.path(), ByteSize(1)).0 > 1);
        assert_eq!(
            of_folder(&folder.path().join("none"), ByteSize(1)),
            ByteSize(0)
        );
    }

    #[test]
    fn descendants_are_counted_with_their_memory() {
        let mut child = std::process::Command::new("sh")
            .args(["-c", "sleep 100 & wait"])
            .spawn()
            .unwrap();
        let own = i32::try_from(std::process::id()).unwrap();
        let shell = i32::try_from(child.id()).unwrap();
        let begun = std::time::Instant::now();
        // Other tests of this process may have children too: the shell has one once it has started it.
        while of_descendants(shell).processes < 1 {
            assert!(begun.elapsed().as_secs() < 60);
            std::thread::yield_now();
        }
        let all = of_descendants(own);
        assert!(all.processes >= 2 && all.memory.0 > 0);
        let _ = nix::sys::signal::killpg(
            nix::unistd::Pid::from_raw(shell),
            nix::sys::signal::Signal::SIGKILL,
        );
        for pid in fs::read_to_string(format!("/proc/{shell}/task/{shell}/children"))
            .unwrap()
            .split_whitespace()
        {
            let _ = nix::sys::signal::kill(
                nix::unistd::Pid::from_raw(pid.parse().unwrap()),
                nix::sys::signal::Signal::SIGKILL,
            );
        }
        child.wait().unwrap();
    }
}
