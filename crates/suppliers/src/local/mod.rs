//! Processes on the service's own host: each machine is a `pennine-runner` with a folder of its own.
//!
//! ```text
//!   DIR/MACHINE/order.json    what was ordered, without the ticket
//!   DIR/MACHINE/pid           its process, with the time at which it started
//!   DIR/MACHINE/console.log   what it prints
//!   DIR/MACHINE/home/         the runner's folder
//! ```
//! A machine outlives the service: one that starts again finds it by its folder. A process is known by its pid and the
//! time at which it started, so that a number used again by another is never taken for it.

mod process;
pub mod walls;

use crate::{
    CONSOLE_BYTES, Fault, Offer, Order, PlacedOrder, SuppliedMachine, SuppliedState, Supplier, tail,
};
use futures::FutureExt;
use futures::future::BoxFuture;
use nix::unistd::gethostname;
use pennine_core::id::MachineId;
use process::Process;
use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;
use uuid::Uuid;
use walls::{MachineIsolation, View};

/// What a machine needs beside the service: one processor of the host for each but one, and this much memory.
const MEMORY: u64 = 1 << 30;
/// Memory that is left to the service and its database.
const KEPT_BACK: u64 = 1 << 30;
/// Its machines are up in moments.
const BOOT_LIMIT: Duration = Duration::from_secs(60);

/// Processes on this host.
pub struct Local {
    dir: PathBuf,
    /// What no machine is to see, where they have walls.
    hidden: PathBuf,
    /// The runner's program.
    program: PathBuf,
    installation: Uuid,
    /// The most machines, where people say so.
    most: Option<u32>,
    walls: tokio::sync::OnceCell<MachineIsolation>,
    /// Whether the host's tools were asked for their versions.
    warm: tokio::sync::OnceCell<()>,
    /// What people want of them, where they say so.
    wanted_walls: Option<MachineIsolation>,
}

/// What people can set of it.
pub const SETTINGS: [(&str, &str); 2] = [
    (
        "most",
        "the most machines [default: what the host has room for]",
    ),
    (
        "walls",
        "overlay, read-only or folder [default: the first that works here]",
    ),
];

#[derive(serde::Serialize, serde::Deserialize)]
struct MachineFile {
    installation: Uuid,
    name: String,
}

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
        Ok(Local {
            dir,
            hidden,
            program,
            installation,
            most,
            walls: tokio::sync::OnceCell::new(),
            warm: tokio::sync::OnceCell::new(),
            wanted_walls,
        })
    }

    /// Where the versions of the host's tools are kept.
    fn tools(&self) -> PathBuf {
        self.dir.join("tools.json")
    }

    fn folder(&self, machine: MachineId) -> PathBuf {
        self.dir.join(machine.to_string())
    }

    /// How machines are kept apart here: found out once.
    async fn walls(&self) -> MachineIsolation {
        *self
            .walls
            .get_or_init(|| async {
                if let Some(walls) = self.wanted_walls {
                    return walls;
                }
                let _ = std::fs::create_dir_all(&self.dir);
                MachineIsolation::best(&self.dir).await
            })
            .await
    }

    /// Asks the host's tools for their versions, before any machine has to.
    async fn warm_up(&self) {
        let ask = || async {
            let _ = std::fs::create_dir_all(&self.dir);
            let mut command = Command::new(&self.program);
            command
                .args(["facts", "--dir"])
                .arg(self.dir.join("host"))
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
        let folder = self.folder(order.machine);
        let broken = |what: &Path, error: std::io::Error| {
            Fault::Unavailable(format!("{}: {error}", what.display()))
        };
        if self.process(order.machine).is_some_and(|one| one.alive()) {
            return Ok(self.placed());
        }
        let limit = self.machine_limit();
        let running = self.all().into_iter().filter(|id| *id != order.machine);
        let running = running.filter(|id| self.process(*id).is_some_and(|one| one.alive()));
        if running.count() >= limit as usize {
            return Err(Fault::Quota {
                message: format!("this host has room for {limit} machines beside the service"),
                quota: Some(limit),
            });
        }
        let home = folder.join("home");
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(&home)
            .map_err(|error| broken(&home, error))?;
        let written = serde_json::to_vec(&MachineFile {
            installation: self.installation,
            name: order.name.clone(),
        });
        let path = folder.join("order.json");
        std::fs::write(&path, written.unwrap_or_default()).map_err(|e| broken(&path, e))?;
        let path = folder.join("console.log");
        let console = std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(&path)
            .map_err(|error| broken(&path, error))?;
        let errors = console.try_clone().map_err(|error| broken(&path, error))?;
        let view = View {
            folder: &folder,
            hidden: &self.hidden,
            kept: &self.tools(),
            program: &self.program,
        };
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
            .current_dir(&folder)
            .stdin(Stdio::null())
            .stdout(console)
            .stderr(errors)
            // A group of its own: what reaches the service from its terminal does not reach its machines.
            .process_group(0);
        let mut child = command
            .spawn()
            .map_err(|error| broken(&self.program, error))?;
        let pid = child.id().and_then(|pid| i32::try_from(pid).ok());
        if let Some(process) = pid.and_then(Process::of) {
            let path = folder.join("pid");
            std::fs::write(&path, process.written()).map_err(|error| broken(&path, error))?;
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

    /// The machines that have a folder here.
    fn all(&self) -> Vec<MachineId> {
        let entries = std::fs::read_dir(&self.dir).into_iter().flatten().flatten();
        entries
            .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
            .collect()
    }

    /// The process of a machine, whether or not it lives.
    fn process(&self, machine: MachineId) -> Option<Process> {
        let text = std::fs::read_to_string(self.folder(machine).join("pid")).ok()?;
        Process::read(&text)
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
        let folder = self.folder(machine);
        if let Some(process) = self.process(machine) {
            process.end().await;
            if process.alive() {
                return Err(Fault::Unclear(format!(
                    "process {} does not end",
                    process.pid
                )));
            }
        }
        let removed = tokio::task::spawn_blocking(move || std::fs::remove_dir_all(folder)).await;
        match removed {
            Ok(Err(error)) if error.kind() != std::io::ErrorKind::NotFound => Err(Fault::Unclear(
                format!("its folder cannot be removed: {error}"),
            )),
            _ => Ok(()),
        }
    }

    fn found(&self, machine: MachineId) -> Option<SuppliedMachine> {
        let text = std::fs::read(self.folder(machine).join("order.json")).ok()?;
        let written: MachineFile = serde_json::from_slice(&text).ok()?;
        (written.installation == self.installation).then(|| SuppliedMachine {
            machine,
            reference: host(),
            zone: String::new(),
            stage: if self.process(machine).is_some_and(|one| one.alive()) {
                SuppliedState::Running
            } else {
                SuppliedState::Stopped
            },
            reclaimed: false,
            message: String::new(),
        })
    }
}

impl Supplier for Local {
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>> {
        self.start(order).boxed()
    }

    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>> {
        self.end(machine).boxed()
    }

    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>> {
        let found = self.all().into_iter().filter_map(|one| self.found(one));
        futures::future::ready(Ok(found.collect())).boxed()
    }

    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>> {
        let path = self.folder(machine).join("console.log");
        futures::future::ready(Ok(end_of(&path).unwrap_or_default())).boxed()
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

fn host() -> String {
    gethostname().map_or_else(|_| "here".to_owned(), |name| name.to_string_lossy().into())
}

fn total_memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text
        .lines()
        .find_map(|line| line.strip_prefix("MemTotal:"))?;
    let kib: u64 = line.trim().strip_suffix("kB")?.trim().parse().ok()?;
    kib.checked_mul(1024)
}

/// The end of a file that may be large.
fn end_of(path: &Path) -> std::io::Result<String> {
    let mut file = std::fs::File::open(path)?;
    let most = CONSOLE_BYTES as u64;
    let length = file.metadata()?.len();
    file.seek(SeekFrom::Start(length.saturating_sub(most)))?;
    let mut bytes = Vec::new();
    file.take(most).read_to_end(&mut bytes)?;
    Ok(tail(&String::from_utf8_lossy(&bytes), CONSOLE_BYTES).to_owned())
}
