//! What this machine can give its jobs, found by trying, and in words.

use crate::error::Error;
use crate::machine_settings::{FILE, MachineSettings};
use crate::system::isolation::control_group::{ControlGroups, EnforcedLimits};
use crate::system::isolation::folder::JobSite;
use crate::system::isolation::sized_disk;
use crate::system::isolation::users::{self, JobUsers};
use crate::system::keeper::{KeeperLauncher, Mechanism};
use pennine_core::fact::{FactValue, Facts};
use pennine_core::finding::Finding;
use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use pennine_core::size::ByteSize;
use std::path::{Path, PathBuf};
use std::rc::Rc;

/// Container engines: who reaches one is root on the machine.
const ENGINES: [&str; 4] = [
    "/run/docker.sock",
    "/run/podman",
    "/run/containerd",
    "/run/crio",
];

/// What this machine can give its jobs.
#[derive(Clone, Debug)]
pub struct Abilities {
    mechanism: Mechanism,
    /// Who jobs are.
    identity: JobIdentity,
    /// Why it cannot keep jobs apart, if it cannot.
    process: Result<(), String>,
    /// Why it cannot put jobs into a sandbox, if it cannot.
    sandbox: Result<(), String>,
    enforced: EnforcedLimits,
}

/// The size of the disk with which disks of jobs are tried.
const TRIED_DISK: ByteSize = ByteSize(1 << 20);

/// The user that jobs are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JobIdentity {
    /// One of a range of users without privileges, since the runner is root.
    Own,
    /// The runner's user.
    Runner,
    /// Root, as the machine's owner has asked.
    Root,
}

/// The keepers of a runner's jobs, and what they can do, which is found by trying unless it was found a moment ago.
pub async fn keepers(
    program: PathBuf,
    folder: &Path,
    settings: &MachineSettings,
    known: Option<Abilities>,
) -> Result<(KeeperLauncher, Abilities), Error> {
    let range = settings.range().map_err(Error::Machine)?;
    // The root of a container without these users can only be treated like any other user.
    let is_root = nix::unistd::geteuid().is_root() && users::exist(range);
    let identity = match (is_root, settings.jobs_as_root) {
        (true, true) => JobIdentity::Root,
        (true, false) => JobIdentity::Own,
        (false, _) => JobIdentity::Runner,
    };
    let mut site = JobSite::at(folder.join("work"));
    site.hidden = hidden(folder, settings);
    site.exposed.clone_from(&settings.expose);
    // Jobs ask it for identity tokens.
    site.exposed.extend(std::env::current_exe());
    site.groups = ControlGroups::here();
    if identity == JobIdentity::Own {
        let users =
            JobUsers::of(range).map_err(|e| Error::Machine(format!("users of jobs: {e}")))?;
        site.users = Some(users);
    }
    let mut enforced = site
        .groups
        .as_ref()
        .map(ControlGroups::enforced)
        .unwrap_or_default();
    // A user of its own has a limit of its own.
    enforced.processes |= identity == JobIdentity::Own;
    let site = Rc::new(site);
    let first = if is_root {
        Mechanism::Namespace
    } else {
        Mechanism::UserNamespace
    };
    if let Some(known) = known {
        site.sizes_disks.set(known.enforced.disk);
        let keepers = KeeperLauncher::with(program, known.mechanism).at(site);
        return Ok((keepers, known));
    }
    let level = |isolation| JobPolicy {
        isolation,
        ..JobPolicy::default()
    };
    let mut keepers = KeeperLauncher::with(program.clone(), first).at(site.clone());
    let tries_disk = is_root && sized_disk::is_conceivable();
    site.sizes_disks.set(tries_disk);
    let with_disk = async {
        let mut policy = level(IsolationLevel::Process);
        policy.limits.disk = Some(TRIED_DISK);
        match tries_disk {
            true => keepers.try_policy(policy).await,
            false => Err(String::new()),
        }
    };
    // Side by side: a machine that is made for one job starts it the sooner.
    let in_sandbox = keepers.try_policy(level(IsolationLevel::Sandbox));
    let (mut process, sandbox) = tokio::join!(with_disk, in_sandbox);
    enforced.disk = process.is_ok();
    site.sizes_disks.set(enforced.disk);
    if process.is_err() {
        process = keepers.try_policy(level(IsolationLevel::Process)).await;
    }
    if process.is_err() {
        let plain = KeeperLauncher::of(program).await;
        keepers = plain.at(site);
    }
    let sandbox = match &process {
        Ok(()) => sandbox,
        Err(error) => Err(error.clone()),
    };
    let abilities = Abilities {
        mechanism: keepers.mechanism(),
        identity,
        process,
        sandbox,
        enforced,
    };
    Ok((keepers, abilities))
}

/// What jobs never see: the runner's folder, the home of its user, its session, container engines, and what the machine's
/// owner hides.
fn hidden(folder: &Path, settings: &MachineSettings) -> Vec<PathBuf> {
    let mut hidden = vec![folder.to_owned()];
    hidden.extend(std::env::var_os("HOME").map(PathBuf::from));
    hidden.push(format!("/run/user/{}", nix::unistd::geteuid()).into());
    hidden.extend(ENGINES.map(PathBuf::from));
    hidden.extend(settings.hide.iter().cloned());
    hidden.retain(|path| !settings.expose.contains(path));
    hidden
}

impl Abilities {
    /// Those of a machine that gives nothing.
    pub fn none() -> Abilities {
        let nothing = || Err("it was not tried".to_owned());
        Abilities {
            mechanism: Mechanism::Group,
            identity: JobIdentity::Runner,
            process: nothing(),
            sandbox: nothing(),
            enforced: EnforcedLimits::default(),
        }
    }

    /// Whether jobs can be kept at a level.
    ///
    /// Errors: why not, for people.
    pub fn gives(&self, level: IsolationLevel) -> Result<(), String> {
        match level {
            IsolationLevel::None => Ok(()),
            IsolationLevel::Process => self.process.clone(),
            IsolationLevel::Sandbox => self.sandbox.clone(),
        }
    }

    /// The strongest level that jobs can be kept at.
    pub fn strongest(&self) -> IsolationLevel {
        let mut levels = IsolationLevel::ALL.iter().rev().copied();
        let found = levels.find(|level| self.gives(*level).is_ok());
        found.unwrap_or(IsolationLevel::None)
    }

    /// Whether jobs are other users than the runner.
    pub fn jobs_are_other_users(&self) -> bool {
        self.identity == JobIdentity::Own
    }

    /// As facts that requirements and pools can ask for.
    pub fn facts(&self) -> Facts {
        let mut facts = Facts::new();
        let mut word = |name: &str, value: &str| {
            facts.insert(name.to_owned(), FactValue::Text(value.to_owned()));
        };
        if self.process.is_ok() {
            word("process-isolation", "namespaces");
        }
        if self.sandbox.is_ok() {
            word("sandbox", "bubblewrap");
        }
        if self.identity == JobIdentity::Root {
            word("jobs-as-root", "yes");
        }
        facts
    }

    /// How a job at this level is kept, for the head of its log.
    pub fn describe(&self, level: IsolationLevel, network: bool) -> String {
        let who = match self.identity {
            JobIdentity::Own => "a user of its own",
            JobIdentity::Root => "ROOT",
            JobIdentity::Runner => "the runner's user",
        };
        match level {
            IsolationLevel::None => format!("isolation none: as {who}, with all that it can reach"),
            IsolationLevel::Process => format!(
                "isolation process: as {who}; own processes, files and IPC; the machine's network"
            ),
            IsolationLevel::Sandbox => format!(
                "isolation sandbox: as {who}; own processes, files and IPC; read-only system; {}",
                if network {
                    "the machine's network"
                } else {
                    "no network"
                }
            ),
        }
    }

    /// How limits are kept, for the head of a job's log; empty where there are none.
    pub fn limits(&self, policy: &JobPolicy) -> String {
        let limits = &policy.limits;
        let how = |is_enforced| if is_enforced { "enforced" } else { "measured" };
        let parts = [
            limits
                .memory
                .map(|memory| format!("memory {memory} ({})", how(self.enforced.memory))),
            limits
                .processes
                .map(|count| format!("{count} processes ({})", how(self.enforced.processes))),
            limits.cores.map(|cores| {
                format!(
                    "{cores} cores ({})",
                    if self.enforced.cores {
                        "enforced"
                    } else {
                        "not enforced"
                    }
                )
            }),
            limits
                .disk
                .map(|disk| format!("disk {disk} ({})", how(self.sizes_disk(policy)))),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        if parts.is_empty() {
            String::new()
        } else {
            format!("limits: {}", parts.join(", "))
        }
    }

    /// Whether the kernel limits the disk space of a job with this policy, where it has a limit.
    pub fn sizes_disk(&self, policy: &JobPolicy) -> bool {
        self.enforced.disk
            && policy.isolation > IsolationLevel::None
            && policy.limits.disk.is_some_and(sized_disk::suits)
    }

    /// What the kernel limits.
    pub fn enforced(&self) -> EnforcedLimits {
        self.enforced
    }

    /// For the doctor: who jobs are, at which levels they can be kept, and how limits are kept.
    pub fn findings(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        findings.push(match self.identity {
            JobIdentity::Own => Finding::passed(
                "user",
                "each job runs as a user of its own; the runner is root",
            ),
            JobIdentity::Runner => Finding::passed("user", "jobs run as the runner's user"),
            JobIdentity::Root => {
                Finding::warning("user", "jobs run as root: they can change this machine").remedy(
                    format!("remove jobs_as_root from {FILE}, unless only trusted jobs run here"),
                )
            }
        });
        let namespaces = "allow user namespaces (sysctl kernel.unprivileged_userns_clone=1, user.max_user_namespaces above 0; in a container: --security-opt seccomp=unconfined)";
        findings.push(match &self.process {
            Ok(()) => Finding::passed("processes", format!("of a job: {}", self.mechanism.describe())),
            Err(why) => Finding::warning("processes", format!("jobs cannot be isolated: {why}")).remedy(format!(
                "{namespaces}; or accept it for this pool: pennine pool set POOL --isolation none"
            )),
        });
        findings.push(match (&self.sandbox, &self.process) {
            (Ok(()), _) => Finding::passed("sandbox", "available"),
            (Err(_), Err(_)) => Finding::passed("sandbox", "not available, as above"),
            (Err(why), Ok(())) => Finding::passed("sandbox", format!("not available: {why}")),
        });
        let EnforcedLimits {
            memory,
            processes,
            cores,
            disk,
        } = self.enforced;
        let kept = |name: &str, is_enforced, otherwise: &str| {
            format!(
                "{name} {}",
                if is_enforced { "enforced" } else { otherwise }
            )
        };
        findings.push(Finding::passed(
            "limits",
            [
                kept("memory", memory, "measured"),
                kept("processes", processes, "measured"),
                kept("cores", cores, "not enforced"),
                kept("disk", disk, "measured"),
            ]
            .join(", "),
        ));
        findings
    }
}
