//! The folders of machines, and what stands in them. Every call may block: the files are on a disk.

use super::control_file;
use super::process::Process;
use crate::{CONSOLE_BYTES, Order, SuppliedMachine, SuppliedState, tail};
use nix::unistd::gethostname;
use pennine_core::id::MachineId;
use std::fs::{DirBuilder, File};
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use uuid::Uuid;

/// The machines of one installation below one folder.
#[derive(Clone, Debug)]
pub(super) struct MachineFolders {
    pub dir: PathBuf,
    pub installation: Uuid,
}

/// What stands in `order.json`.
#[derive(serde::Serialize, serde::Deserialize)]
struct MachineFile {
    installation: Uuid,
    name: String,
}

/// A folder that is ready for its machine.
pub(super) struct PreparedFolder {
    /// The runner's folder.
    pub home: PathBuf,
    /// The folder of its line to the service.
    pub line: PathBuf,
    /// Where its output goes, and its errors.
    pub output: (File, File),
}

/// A file that could not be written, with its path.
pub(super) type Unwritten = (PathBuf, io::Error);

impl MachineFolders {
    fn folder(&self, machine: MachineId) -> PathBuf {
        self.dir.join(machine.to_string())
    }

    /// The machines that have a folder here.
    fn all(&self) -> Vec<MachineId> {
        let entries = std::fs::read_dir(&self.dir).into_iter().flatten().flatten();
        entries
            .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
            .collect()
    }

    /// The process of a machine, whether or not it lives.
    pub fn process(&self, machine: MachineId) -> Option<Process> {
        let text = control_file::read(&self.folder(machine).join("pid")).ok()?;
        Process::read(std::str::from_utf8(&text).ok()?)
    }

    /// How many machines run, but for this one.
    pub fn running_beside(&self, machine: MachineId) -> usize {
        let others = self.all().into_iter().filter(|id| *id != machine);
        others
            .filter(|id| self.process(*id).is_some_and(|one| one.alive()))
            .count()
    }

    /// Makes a machine's folder and its files, but for `pid`.
    pub fn prepare(&self, order: &Order) -> Result<PreparedFolder, Unwritten> {
        let folder = self.folder(order.machine);
        let (home, line) = (folder.join("home"), folder.join("line"));
        for path in [&home, &line] {
            let mut made = DirBuilder::new();
            let made = made.recursive(true).mode(0o700).create(path);
            made.map_err(|error| (path.clone(), error))?;
        }
        let written = serde_json::to_vec(&MachineFile {
            installation: self.installation,
            name: order.name.clone(),
        });
        let path = folder.join("order.json");
        control_file::write(&path, &written.unwrap_or_default()).map_err(|error| (path, error))?;
        let path = folder.join("console.log");
        let console = control_file::append(&path)
            .and_then(|console| Ok((console.try_clone()?, console)))
            .map_err(|error| (path, error))?;
        Ok(PreparedFolder {
            home,
            line,
            output: console,
        })
    }

    /// Notes the process of a machine.
    pub fn note_process(&self, machine: MachineId, process: Process) -> Result<(), Unwritten> {
        let path = self.folder(machine).join("pid");
        control_file::write(&path, process.written().as_bytes()).map_err(|error| (path, error))
    }

    /// The machines of this installation.
    pub fn list(&self) -> Vec<SuppliedMachine> {
        let all = self.all().into_iter();
        all.filter_map(|machine| self.found(machine)).collect()
    }

    fn found(&self, machine: MachineId) -> Option<SuppliedMachine> {
        let text = control_file::read(&self.folder(machine).join("order.json")).ok()?;
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

    /// The end of what a machine printed; empty if it never did.
    pub fn console(&self, machine: MachineId) -> String {
        let path = self.folder(machine).join("console.log");
        let bytes = control_file::read_end(&path, CONSOLE_BYTES as u64).unwrap_or_default();
        tail(&String::from_utf8_lossy(&bytes), CONSOLE_BYTES).to_owned()
    }

    /// Removes a machine's folder. Removing one that is not there succeeds.
    pub fn remove(&self, machine: MachineId) -> io::Result<()> {
        match std::fs::remove_dir_all(self.folder(machine)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

/// This host, by name.
pub(super) fn host() -> String {
    gethostname().map_or_else(|_| "here".to_owned(), |name| name.to_string_lossy().into())
}

/// Makes the folder of all machines, if it is missing.
pub(super) fn make(dir: &Path) {
    // Where that fails, so does what is put there, and says so.
    let _ = std::fs::create_dir_all(dir);
}
