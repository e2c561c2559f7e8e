//! One machine of the cloud: a process of `pennine-runner`, after the time that it takes to come up.

use super::Plan;
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use pennine_core::id::MachineId;
use pennine_suppliers::{Order, PlacedOrder, SuppliedMachine, SuppliedState};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::process::Command;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

/// Variables of this program that its machines get as well.
const PASSED_ON: [&str; 2] = ["PENNINE_RUNNER_HIDE", "PENNINE_RUNNER_EXPOSE"];

/// One machine.
pub struct Machine {
    installation: Uuid,
    reference: String,
    zone: String,
    folder: PathBuf,
    stage: Arc<Mutex<SuppliedState>>,
    reclaimed: bool,
    over: CancellationToken,
    life: JoinHandle<()>,
}

fn set(stage: &Mutex<SuppliedState>, to: SuppliedState) {
    *stage.lock().unwrap_or_else(PoisonError::into_inner) = to;
}

fn print(folder: &Path, line: &str) {
    let file = std::fs::OpenOptions::new()
        .create(true)
        .append(true)
        .open(folder.join("console.log"));
    if let Ok(mut file) = file {
        let _ = writeln!(file, "{line}");
    }
}

impl Machine {
    /// Begins to make it.
    pub fn begin(
        order: &Order,
        reference: String,
        zone: String,
        boot: Duration,
        fails: bool,
        plan: &Plan,
    ) -> Machine {
        let folder = plan.dir.join(&reference);
        let stage = Arc::new(Mutex::new(SuppliedState::Starting));
        let over = CancellationToken::new();
        let life = tokio::spawn(live(
            order.clone(),
            folder.clone(),
            plan.runner.clone(),
            plan.dir.join("tools.json"),
            boot,
            fails,
            stage.clone(),
            over.clone(),
        ));
        Machine {
            installation: order.installation,
            reference,
            zone,
            folder,
            stage,
            reclaimed: false,
            over,
            life,
        }
    }

    pub fn installation(&self) -> Uuid {
        self.installation
    }

    pub fn placed(&self) -> PlacedOrder {
        PlacedOrder {
            reference: self.reference.clone(),
            zone: self.zone.clone(),
        }
    }

    pub fn found(&self, id: MachineId) -> SuppliedMachine {
        SuppliedMachine {
            machine: id,
            reference: self.reference.clone(),
            zone: self.zone.clone(),
            stage: *self.stage.lock().unwrap_or_else(PoisonError::into_inner),
            reclaimed: self.reclaimed,
            message: String::new(),
        }
    }

    /// What it prints.
    pub fn console(&self) -> PathBuf {
        self.folder.join("console.log")
    }

    /// It will be taken back.
    pub fn reclaim(&mut self) {
        self.reclaimed = true;
    }

    /// Ends it, and leaves nothing of it.
    pub async fn end(self) {
        self.over.cancel();
        let _ = self.life.await;
        let _ = tokio::fs::remove_dir_all(&self.folder).await;
    }
}

#[allow(clippy::too_many_arguments)]
async fn live(
    order: Order,
    folder: PathBuf,
    runner: PathBuf,
    tools: PathBuf,
    boot: Duration,
    fails: bool,
    stage: Arc<Mutex<SuppliedState>>,
    over: CancellationToken,
) {
    let home = folder.join("home");
    if let Err(error) = std::fs::create_dir_all(&home) {
        tracing::error!(folder = %home.display(), %error, "a machine has no folder");
        return set(&stage, SuppliedState::Stopped);
    }
    print(&folder, &format!("{}: powered on", order.name));
    tokio::select! {
        () = tokio::time::sleep(boot) => {}
        () = over.cancelled() => return,
    }
    if fails {
        print(&folder, "no bootable device found");
        return set(&stage, SuppliedState::Stopped);
    }
    print(&folder, &format!("up after {:.1} s", boot.as_secs_f64()));
    set(&stage, SuppliedState::Running);
    let file = |name: &str| {
        std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(folder.join(name))
    };
    let (Ok(out), Ok(errors)) = (file("console.log"), file("console.log")) else {
        return set(&stage, SuppliedState::Stopped);
    };
    let started = Command::new(&runner)
        .args(order.arguments())
        .arg("--dir")
        .arg(&home)
        .env_clear()
        .envs(order.environment())
        .envs(std::env::var("PATH").map(|path| ("PATH", path)))
        .env("HOME", &home)
        // What this host keeps from jobs, a machine on it does as well.
        .envs(std::env::vars_os().filter(|(name, _)| PASSED_ON.iter().any(|kept| name == kept)))
        .env("PENNINE_TOOL_VERSIONS", tools)
        .current_dir(&folder)
        .stdin(Stdio::null())
        .stdout(out)
        .stderr(errors)
        .process_group(0)
        .kill_on_drop(true)
        .spawn();
    let mut child = match started {
        Ok(child) => child,
        Err(error) => {
            print(
                &folder,
                &format!("{} cannot be started: {error}", runner.display()),
            );
            return set(&stage, SuppliedState::Stopped);
        }
    };
    let pid = child.id().and_then(|pid| i32::try_from(pid).ok());
    tokio::select! {
        _ = child.wait() => {}
        // Pulled out of the socket, as clouds do.
        () = over.cancelled() => {
            if let Some(pid) = pid {
                let _ = killpg(Pid::from_raw(pid), Signal::SIGKILL);
            }
            let _ = child.wait().await;
        }
    }
    set(&stage, SuppliedState::Stopped);
}
