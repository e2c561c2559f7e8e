//! Processes on the service's own host: each machine is a `pennine-runner` with a folder of its own.
//!
//! ```text
//!   DIR/MACHINE/order.json    what was ordered, without the ticket
//!   DIR/MACHINE/pid           its process, with the time at which it started
//!   DIR/MACHINE/console.log   what it prints
//!   DIR/MACHINE/line/         the socket through which the runner reaches the service, where it has no other network
//!   DIR/MACHINE/home/         the runner's folder: all that the machine can write, where it has walls
//! ```
//! A machine outlives the service: one that starts again finds it by its folder. A process is known by its pid and the
//! time at which it started, so that a number used again by another is never taken for it.

mod control_file;
mod folders;
mod process;
pub mod walls;

use crate::{Fault, Offer, Order, PlacedOrder, SuppliedMachine, Supplier};
use folders::{MachineFolders, Unwritten, host};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_core::id::MachineId;
use pennine_core::size::ByteSize;
use process::Process;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;
use uuid::Uuid;
use walls::{MachineIsolation, MachineNetwork, View};

/// What a machine needs beside the service: one processor of the host for each but one, and this much memory.
const MEMORY: u64 = 1 << 30;
/// Memory that is left to the service and its database.
const KEPT_BACK: u64 = 1 << 30;
/// Its machines are up in moments.
const BOOT_LIMIT: Duration = Duration::from_secs(60);

/// Processes on this host.
pub struct Local {
    folders: MachineFolders,
    /// What no machine is to see, where they have walls.
    hidden: PathBuf,
    /// The runner's program.
    program: PathBuf,
    /// The most bytes that a machine in a sandbox writes outside its folder.
    scratch: ByteSize,
    /// The most machines, where people say so.
    most: Option<u32>,
    walls: tokio::sync::OnceCell<MachineIsolation>,
    /// Whether the host's tools were asked for their versions.
    warm: tokio::sync::OnceCell<()>,
    /// What people want of them, where they say so.
    wanted_walls: Option<MachineIsolation>,
}

/// What people can set of it.
pub const SETTINGS: [(&str, &str); 3] = [
    (
        "most",
        "the most machines [default: what the host has room for]",
    ),
    (
        "scratch",
        "what a machine in a sandbox may write outside its folder, kept in memory [default: 1GiB]",
    ),
    (
        "walls",
        "overlay, read-only or folder [default: the first that works here]",
    ),
];

/// What each machine of a pool can be given, among the pool's settings.
const NETWORK: &str = "network";

/// What a machine in a sandbox writes outside its folder at most, where people say nothing: the memory that is counted for
/// each machine.
const SCRATCH: ByteSize = ByteSize(MEMORY);

impl Local {
    /// Machines in this folder, from this program. What is in `hidden`, which may hold the folder, is kept from them.
    pub fn new(
        dir: PathBuf,
        hidden: PathBuf,
        program: PathBuf,
        installation: Uuid,
        settings: &BTreeMap<String, String>,
    ) -> Result<Local, String> {
        let most = match settings.get("most") {
            None => None,
            Some(text) => Some(
                text.parse()
                    .map_err(|_| format!("most is a number of machines, not {text:?}"))?,
            ),
        };
        let wanted_walls = match settings.get("walls").map(String::as_str) {
            None => None,
            Some(text) => Some(MachineIsolation::parse(text)?),
        };
        let scratch = match settings.get("scratch") {
            None => SCRATCH,
            Some(text) => text.parse().map_err(|error| format!("scratch: {error}"))?,
        };
        Ok(Local {
            folders: MachineFolders { dir, installation },
            hidden,
            program,
            scratch,
            most,
            walls: tokio::sync::OnceCell::new(),
            warm: tokio::sync::OnceCell::new(),
            wanted_walls,
        })
    }

    /// Where the versions of the host's tools are kept.
    fn tools(&self) -> PathBuf {
        self.folders.dir.join("tools.json")
    }

    /// Does something with the machines' folders on a thread that may block.
    async fn with_folders<T: Send + 'static>(
        &self,
        work: impl FnOnce(&MachineFolders) -> T + Send + 'static,
    ) -> Result<T, Fault> {
        let folders = self.folders.clone();
        let done = tokio::task::spawn_blocking(move || work(&folders)).await;
        done.map_err(|error| Fault::Unclear(format!("the machines' folders: {error}")))
    }

    /// How machines are kept apart here: found out once.
    async fn walls(&self) -> MachineIsolation {
        *self
            .walls
            .get_or_init(|| async {
                if let Some(walls) = self.wanted_walls {
                    return walls;
                }
                let _ = self
                    .with_folders(|folders| folders::make(&folders.dir))
                    .await;
                MachineIsolation::best(&self.folders.dir).await
            })
            .await
    }

    /// Asks the host's tools for their versions, before any machine has to.
    async fn warm_up(&self) {
        let ask = || async {
            let _ = self
                .with_folders(|folders| folders::make(&folders.dir))
                .await;
            let mut command = Command::new(&self.program);
            command
                .args(["facts", "--dir"])
                .arg(self.folders.dir.join("host"))
                .env("PENNINE_TOOL_VERSIONS", self.tools())
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .kill_on_drop(true);
            let _ = tokio::time::timeout(Duration::from_secs(20), command.status()).await;
        };
        self.warm.get_or_init(ask).await;
    }

    async fn start(&self, order: &Order) -> Result<PlacedOrder, Fault> {
        let has_network = match order.settings.get(NETWORK).map(String::as_str) {
            None | Some("service") => false,
            Some("host") => true,
            Some(other) => {
                let message = format!("the setting {NETWORK} is service or host, not {other:?}");
                return Err(Fault::Refused(message));
            }
        };
        let machine = order.machine;
        let found = self.with_folders(move |folders| {
            let runs = folders.process(machine).is_some_and(|one| one.alive());
            (runs, folders.running_beside(machine))
        });
        let (runs, others) = found.await?;
        if runs {
            return Ok(self.placed());
        }
        let limit = self.machine_limit();
        if others >= limit as usize {
            return Err(Fault::Quota {
                message: format!("this host has room for {limit} machines beside the service"),
                quota: Some(limit),
            });
        }
        let ordered = order.clone();
        let prepared = self.with_folders(move |folders| folders.prepare(&ordered));
        let prepared = prepared.await?.map_err(unwritten)?;
        let home = prepared.home;
        let view = View {
            folder: &home,
            hidden: &self.hidden,
            kept: &self.tools(),
            program: &self.program,
            scratch: self.scratch.0,
            network: if has_network {
                MachineNetwork::Host
            } else {
                MachineNetwork::Service {
                    line: &prepared.line,
                    servers: &order.join.server,
                }
            },
        };
        let (output, errors) = prepared.output;
        let mut command = self.walls().await.around(&view);
        command
            .args(order.arguments())
            .arg("--dir")
            .arg(&home)
            .env_clear()
            .envs(order.environment())
            .envs(["PATH", "LANG", "TZ"].iter().filter_map(|name| {
                let value = std::env::var(name).ok()?;
                Some((*name, value))
            }))
            .env("HOME", &home)
            // Tools are asked for their versions once, not by every machine.
            .env("PENNINE_TOOL_VERSIONS", self.tools())
            .current_dir(&home)
            .stdin(Stdio::null())
            .stdout(output)
            .stderr(errors)
            // A group of its own: what reaches the service from its terminal does not reach its machines.
            .process_group(0);
        let mut child = command
            .spawn()
            .map_err(|error| Fault::Unavailable(format!("{}: {error}", self.program.display())))?;
        let pid = child.id().and_then(|pid| i32::try_from(pid).ok());
        if let Some(process) = pid.and_then(Process::of) {
            let noted = self.with_folders(move |folders| folders.note_process(machine, process));
            noted.await?.map_err(unwritten)?;
        }
        // Its end has to be awaited.
        tokio::spawn(async move {
            let _ = child.wait().await;
        });
        Ok(self.placed())
    }

    fn placed(&self) -> PlacedOrder {
        PlacedOrder {
            reference: host(),
            zone: String::new(),
        }
    }

    /// How many machines this host bears beside the service.
    fn machine_limit(&self) -> u32 {
        if let Some(most) = self.most {
            return most;
        }
        let cores = std::thread::available_parallelism().map_or(1, |cores| cores.get());
        let memory = total_memory().unwrap_or(KEPT_BACK + MEMORY);
        let by_memory = memory.saturating_sub(KEPT_BACK) / MEMORY;
        let by_cores = u64::try_from(cores).unwrap_or(1).saturating_sub(1).max(1);
        u32::try_from(by_cores.min(by_memory)).unwrap_or(u32::MAX)
    }

    async fn end(&self, machine: MachineId) -> Result<(), Fault> {
        let process = self.with_folders(move |folders| folders.process(machine));
        if let Some(process) = process.await? {
            process.end().await;
            if process.alive() {
                return Err(Fault::Unclear(format!(
                    "process {} does not end",
                    process.pid
                )));
            }
        }
        let removed = self.with_folders(move |folders| folders.remove(machine));
        removed
            .await?
            .map_err(|error| Fault::Unclear(format!("its folder cannot be removed: {error}")))
    }
}

fn unwritten((path, error): Unwritten) -> Fault {
    Fault::Unavailable(format!("{}: {error}", path.display()))
}

impl Supplier for Local {
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>> {
        self.start(order).boxed()
    }

    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>> {
        self.end(machine).boxed()
    }

    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>> {
        self.with_folders(MachineFolders::list).boxed()
    }

    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>> {
        self.with_folders(move |folders| folders.console(machine))
            .boxed()
    }

    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>> {
        async {
            self.warm_up().await;
            Ok(Offer {
                quota: Some(self.machine_limit()),
                boot_limit_us: Some(BOOT_LIMIT.into()),
                message: self.walls().await.describe().to_owned(),
                ..Offer::default()
            })
        }
        .boxed()
    }

    fn sees(&self, reference: &str) -> bool {
        reference == host()
    }

    fn list_every(&self) -> Duration {
        Duration::from_secs(2)
    }
}

fn total_memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text
        .lines()
        .find_map(|line| line.strip_prefix("MemTotal:"))?;
    let kib: u64 = line.trim().strip_suffix("kB")?.trim().parse().ok()?;
    kib.checked_mul(1024)
}
