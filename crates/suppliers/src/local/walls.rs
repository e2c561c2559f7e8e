//! What stands between a machine and the host it runs on.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;

/// How machines are kept apart from the host and from each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MachineIsolation {
    /// In a bubblewrap sandbox over which everything can be written, and is thrown away with the machine.
    Overlay,
    /// In a bubblewrap sandbox: the host's files are there to read.
    ReadOnly,
    /// In a folder, with everything that the service's user may do.
    Folder,
}

/// What a machine sees of the host.
pub struct View<'a> {
    /// Its own folder, which it may write.
    pub folder: &'a Path,
    /// A folder of which it sees nothing.
    pub hidden: &'a Path,
    /// A file in there that it may read all the same.
    pub kept: &'a Path,
    /// Its program.
    pub program: &'a Path,
    /// The most bytes that it may write outside its folder, in memory.
    pub scratch: u64,
    /// What it reaches over the network.
    pub network: MachineNetwork<'a>,
}

/// What a machine in a sandbox reaches over the network.
#[derive(Clone, Copy, Debug)]
pub enum MachineNetwork<'a> {
    /// All that the host reaches.
    Host,
    /// The service alone, at these addresses (separated by commas), over a socket in this folder.
    Service { line: &'a Path, servers: &'a str },
}

/// Builds the sandbox; what it takes stands at its head.
const SANDBOX: &str = include_str!("sandbox.sh");

impl MachineIsolation {
    const ALL: [MachineIsolation; 3] = [
        MachineIsolation::Overlay,
        MachineIsolation::ReadOnly,
        MachineIsolation::Folder,
    ];

    fn word(self) -> &'static str {
        match self {
            MachineIsolation::Overlay => "overlay",
            MachineIsolation::ReadOnly => "read-only",
            MachineIsolation::Folder => "folder",
        }
    }

    /// As people write it.
    pub fn parse(text: &str) -> Result<MachineIsolation, String> {
        let found = MachineIsolation::ALL
            .into_iter()
            .find(|walls| walls.word() == text);
        found.ok_or_else(|| format!("walls is overlay, read-only or folder, not {text:?}"))
    }

    /// The best that this host has, tried in a folder that is there.
    pub async fn best(folder: &Path) -> MachineIsolation {
        for walls in [MachineIsolation::Overlay, MachineIsolation::ReadOnly] {
            if walls.work(folder).await {
                return walls;
            }
        }
        MachineIsolation::Folder
    }

    /// What it means for operators.
    pub fn describe(self) -> &'static str {
        match self {
            MachineIsolation::Overlay => {
                "each machine has its own sandbox: it reads the host's files except home folders and the service's data, what it writes outside its folder is discarded with it, and its network is the service alone unless its pool has the setting network=host"
            }
            MachineIsolation::ReadOnly => {
                "each machine has its own sandbox: it reads the host's files except home folders and the service's data, writes only in its folder (overlays do not work here), and its network is the service alone unless its pool has the setting network=host"
            }
            MachineIsolation::Folder => {
                "machines are plain folders with the host's network, so a job can do what the service's user can (bubblewrap is missing, does not work here, or was not selected)"
            }
        }
    }

    /// The program behind these walls, without its arguments.
    pub fn around(self, view: &View<'_>) -> Command {
        if self == MachineIsolation::Folder {
            return Command::new(view.program);
        }
        let mut command = Command::new("unshare");
        command
            // Ending this process ends everything in it. As root, too, it is only a namespace's root.
            .args(["--user", "--map-root-user", "--mount", "--pid", "--fork"])
            .args(["--kill-child", "--mount-proc", "sh", "-c", SANDBOX])
            .args(["sandbox", self.word()])
            .args([view.folder, view.hidden, view.kept])
            .arg(names())
            .arg(view.scratch.to_string());
        match view.network {
            MachineNetwork::Host => command.args(["", ""]),
            MachineNetwork::Service { line, servers } => command.arg(line).arg(servers),
        };
        command.arg(view.program);
        command
    }

    /// Whether they can be built here, tried in a folder that is there.
    pub async fn work(self, folder: &Path) -> bool {
        let view = View {
            folder,
            hidden: folder,
            kept: Path::new("/bin/true"),
            program: Path::new("/bin/true"),
            scratch: 1 << 20,
            network: MachineNetwork::Host,
        };
        let mut command = self.around(&view);
        command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .kill_on_drop(true);
        let tried = tokio::time::timeout(Duration::from_secs(5), command.status()).await;
        tried.is_ok_and(|status| status.is_ok_and(|status| status.success()))
    }
}

/// The file behind `/etc/resolv.conf`, which may are in a folder that machines do not see.
fn names() -> PathBuf {
    let path = Path::new("/etc/resolv.conf");
    path.canonicalize().unwrap_or_else(|_| path.to_owned())
}
