//! Limits on what a job's processes use together, through control groups: version 2 where a part of the tree is delegated
//! to the runner, version 1 where the runner is root and the controllers are there.
//!
//! The runner's own processes are moved into a leaf beside those of the jobs, since version 2 allows no processes in a
//! group whose children have controllers.

use nix::unistd::{AccessFlags, access};
use pennine_core::job_policy::JobLimits;
use pennine_core::size::ByteSize;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The length of the period in which processor time is counted, in microseconds.
const PERIOD: u64 = 100_000;

/// Where the groups of jobs are made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ControlGroups {
    /// Version 2: the group whose children are the runner's leaf and the jobs' groups.
    Unified(PathBuf),
    /// Version 1: a folder for each controller.
    Separate {
        memory: Option<PathBuf>,
        processes: Option<PathBuf>,
        processor: Option<PathBuf>,
    },
}

/// What is limited by the kernel. Disks are, where jobs are isolated.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct EnforcedLimits {
    pub memory: bool,
    pub processes: bool,
    pub cores: bool,
    pub disk: bool,
}

impl ControlGroups {
    /// The part of the tree that this process may use, if there is any.
    ///
    /// Moves this process into a leaf of its own where that is needed.
    pub fn here() -> Option<ControlGroups> {
        let own = fs::read_to_string("/proc/self/cgroup").ok()?;
        let mounts = fs::read_to_string("/proc/self/mounts").ok()?;
        unified(&own, &mounts)
            .and_then(|group| delegated(&group).ok())
            .map(ControlGroups::Unified)
            .or_else(|| separate(&own, &mounts))
    }

    /// What a job's group limits.
    pub fn enforced(&self) -> EnforcedLimits {
        match self {
            ControlGroups::Unified(group) => {
                let has = fs::read_to_string(group.join("cgroup.subtree_control"));
                let has = has.unwrap_or_default();
                let has = |name: &str| has.split_whitespace().any(|one| one == name);
                EnforcedLimits {
                    memory: has("memory"),
                    processes: has("pids"),
                    cores: has("cpu"),
                    disk: false,
                }
            }
            ControlGroups::Separate {
                memory,
                processes,
                processor,
            } => EnforcedLimits {
                memory: memory.is_some(),
                processes: processes.is_some(),
                cores: processor.is_some(),
                disk: false,
            },
        }
    }

    /// Makes a group for one job, with its limits.
    pub fn group(&self, name: &str, limits: &JobLimits) -> io::Result<JobGroup> {
        let mut made = JobGroup::default();
        let mut make = |above: &Path| -> io::Result<PathBuf> {
            let folder = above.join(name);
            match fs::create_dir(&folder) {
                // Left by an earlier life of the runner.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                other => other?,
            }
            made.folders.push(folder.clone());
            Ok(folder)
        };
        match self {
            ControlGroups::Unified(above) => {
                let folder = make(above)?;
                let enforced = self.enforced();
                if let Some(memory) = limits.memory.filter(|_| enforced.memory) {
                    fs::write(folder.join("memory.max"), memory.0.to_string())?;
                    // What is swapped out is memory as well; without swap there is no such file.
                    let _ = fs::write(folder.join("memory.swap.max"), "0");
                }
                if let Some(processes) = limits.processes.filter(|_| enforced.processes) {
                    fs::write(folder.join("pids.max"), processes.to_string())?;
                }
                if let Some(cores) = limits.cores.filter(|_| enforced.cores) {
                    let quota = u64::from(cores) * PERIOD;
                    fs::write(folder.join("cpu.max"), format!("{quota} {PERIOD}"))?;
                }
                made.events = Some(folder.join("memory.events"));
            }
            ControlGroups::Separate {
                memory,
                processes,
                processor,
            } => {
                if let Some((above, limit)) = memory.as_ref().zip(limits.memory) {
                    let folder = make(above)?;
                    fs::write(folder.join("memory.limit_in_bytes"), limit.0.to_string())?;
                    let both = folder.join("memory.memsw.limit_in_bytes");
                    let _ = fs::write(both, limit.0.to_string());
                    made.events = Some(folder.join("memory.oom_control"));
                }
                if let Some((above, limit)) = processes.as_ref().zip(limits.processes) {
                    fs::write(make(above)?.join("pids.max"), limit.to_string())?;
                }
                if let Some((above, cores)) = processor.as_ref().zip(limits.cores) {
                    let folder = make(above)?;
                    fs::write(folder.join("cpu.cfs_period_us"), PERIOD.to_string())?;
                    let quota = u64::from(cores) * PERIOD;
                    fs::write(folder.join("cpu.cfs_quota_us"), quota.to_string())?;
                }
            }
        }
        Ok(made)
    }
}

/// The groups of one job, removed when dropped.
#[derive(Debug, Default)]
pub struct JobGroup {
    folders: Vec<PathBuf>,
    events: Option<PathBuf>,
}

impl JobGroup {
    /// The files into which a process writes `0` to join.
    pub fn membership_files(&self) -> Vec<PathBuf> {
        let membership_files = self
            .folders
            .iter()
            .map(|folder| folder.join("cgroup.procs"));
        membership_files.collect()
    }

    /// Whether the kernel ended a process because the limit of memory was reached.
    pub fn was_out_of_memory(&self) -> bool {
        let events = self
            .events
            .as_ref()
            .and_then(|path| fs::read_to_string(path).ok());
        events.is_some_and(|events| {
            events.lines().any(|line| {
                let killed = line.strip_prefix("oom_kill ");
                killed.is_some_and(|count| count.trim() != "0")
            })
        })
    }
}

impl Drop for JobGroup {
    fn drop(&mut self) {
        for folder in &self.folders {
            // A group that still has a process stays; the next life of the runner takes it over.
            let _ = fs::remove_dir(folder);
        }
    }
}

/// The place where a file system is mounted: of a type, and with an option where one is given.
fn mounted(mounts: &str, kind: &str, option: Option<&str>) -> Option<PathBuf> {
    mounts.lines().find_map(|line| {
        let mut words = line.split_whitespace().skip(1);
        let (path, found, options) = (words.next()?, words.next()?, words.next()?);
        let has = option.is_none_or(|option| options.split(',').any(|one| one == option));
        (found == kind && has).then(|| PathBuf::from(path))
    })
}

/// A path of /proc/self/cgroup below the place where the tree is mounted.
fn below(mount: &Path, group: &str) -> PathBuf {
    mount.join(group.trim_start_matches('/'))
}

/// This process's group of version 2.
fn unified(own: &str, mounts: &str) -> Option<PathBuf> {
    let group = own.lines().find_map(|line| line.strip_prefix("0::"))?;
    Some(below(&mounted(mounts, "cgroup2", None)?, group))
}

/// The name of the leaf for the runner's own processes.
const LEAF: &str = "runner";

/// Turns the controllers on for the children of a group, and moves this process into a leaf below it.
fn delegated(group: &Path) -> io::Result<PathBuf> {
    // Started again inside its own leaf: the group is the one above.
    let group = match group.file_name() {
        Some(name) if name == LEAF => group.parent().unwrap_or(group),
        _ => group,
    };
    // The root of the tree belongs to the whole machine.
    if !group.join("cgroup.type").exists() {
        return Err(io::ErrorKind::NotFound.into());
    }
    let leaf = group.join(LEAF);
    fs::create_dir_all(&leaf)?;
    fs::write(leaf.join("cgroup.procs"), "0")?;
    let there = fs::read_to_string(group.join("cgroup.controllers"))?;
    for controller in ["memory", "pids", "cpu"] {
        if there.split_whitespace().any(|one| one == controller) {
            fs::write(
                group.join("cgroup.subtree_control"),
                format!("+{controller}"),
            )?;
        }
    }
    Ok(group.to_owned())
}

/// The name of the group of version 1 below which those of jobs are made.
const ABOVE: &str = "pennine-runner";

/// The controllers of version 1 in which this process can make groups.
fn separate(own: &str, mounts: &str) -> Option<ControlGroups> {
    let of = |controller: &str| {
        let group = own.lines().find_map(|line| {
            let (_, rest) = line.split_once(':')?;
            let (controllers, group) = rest.split_once(':')?;
            controllers
                .split(',')
                .any(|one| one == controller)
                .then_some(group)
        })?;
        let above = below(&mounted(mounts, "cgroup", Some(controller))?, group).join(ABOVE);
        fs::create_dir_all(&above).ok()?;
        access(&above, AccessFlags::W_OK).is_ok().then_some(above)
    };
    let (memory, processes, processor) = (of("memory"), of("pids"), of("cpu"));
    let any = memory.is_some() || processes.is_some() || processor.is_some();
    any.then_some(ControlGroups::Separate {
        memory,
        processes,
        processor,
    })
}

/// What a limit means to people.
pub fn memory_limit_reached(limit: ByteSize) -> String {
    format!("ended by the kernel: the job reached its limit of {limit} of memory")
}

#[cfg(test)]
mod tests {
    use super::*;

    const OWN: &str =
        "4:memory:/build\n8:pids:/\n1:cpu,cpuacct:/\n0::/system.slice/pennine-runner.service\n";

    #[test]
    fn groups_are_found_in_both_versions() {
        let mounts = "cgroup2 /sys/fs/cgroup cgroup2 rw,nosuid 0 0\n";
        assert_eq!(
            unified(OWN, mounts),
            Some("/sys/fs/cgroup/system.slice/pennine-runner.service".into())
        );
        assert_eq!(unified(OWN, ""), None);
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().display();
        let mounts = format!("cgroup {root}/memory cgroup rw,memory 0 0\n");
        let found = separate(OWN, &mounts).unwrap();
        let enforced = found.enforced();
        assert!(enforced.memory && !enforced.processes && !enforced.cores);
        assert_eq!(separate(OWN, ""), None);
    }

    #[test]
    fn a_delegated_group_gets_a_leaf_controllers_and_limits() {
        // A folder in the place of the kernel's: what is written can be read.
        let folder = tempfile::tempdir().unwrap();
        let group = folder.path().join("pennine-runner.service");
        fs::create_dir(&group).unwrap();
        assert!(
            delegated(&group).is_err(),
            "the root of the tree is left alone"
        );
        fs::write(group.join("cgroup.type"), "domain\n").unwrap();
        fs::write(group.join("cgroup.controllers"), "cpu memory pids\n").unwrap();
        assert_eq!(delegated(&group).unwrap(), group);
        assert_eq!(
            fs::read_to_string(group.join("runner/cgroup.procs")).unwrap(),
            "0"
        );
        assert_eq!(delegated(&group.join("runner")).unwrap(), group);
        // The kernel shows all that were turned on.
        fs::write(group.join("cgroup.subtree_control"), "cpu memory pids").unwrap();
        let groups = ControlGroups::Unified(group.clone());
        let limits = JobLimits {
            memory: Some(ByteSize(1 << 30)),
            processes: Some(100),
            cores: Some(2),
            disk: None,
        };
        let made = groups.group("job-1", &limits).unwrap();
        let read = |name: &str| fs::read_to_string(group.join("job-1").join(name)).unwrap();
        assert_eq!(read("memory.max"), "1073741824");
        assert_eq!(read("pids.max"), "100");
        assert_eq!(read("cpu.max"), "200000 100000");
        assert_eq!(made.membership_files(), [group.join("job-1/cgroup.procs")]);
        assert!(!made.was_out_of_memory());
        fs::write(group.join("job-1/memory.events"), "oom 3\noom_kill 1\n").unwrap();
        assert!(made.was_out_of_memory());
    }
}
