//! What the machine has: memory, disks, devices.

use nix::sys::statvfs::statvfs;
use nix::sys::sysinfo::sysinfo;
use nix::unistd::{AccessFlags, access};
use pennine_core::fact::{FactValue, Facts};
use pennine_core::size::ByteSize;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// All of its memory.
pub fn memory() -> Option<ByteSize> {
    Some(ByteSize(sysinfo().ok()?.ram_total()))
}

/// The disk that holds a folder.
#[derive(Clone, Copy, Debug)]
pub struct Disk {
    /// Its whole size.
    pub size: ByteSize,
    /// What this user may still write.
    pub free: ByteSize,
}

/// The disk that holds a folder.
pub fn disk_of(folder: &Path) -> Option<Disk> {
    let disk = statvfs(folder).ok()?;
    Some(Disk {
        size: ByteSize(disk.blocks() * disk.fragment_size()),
        free: ByteSize(disk.blocks_available() * disk.fragment_size()),
    })
}

/// Devices that jobs ask for, and the container engine, as far as jobs may open them: whether they are users of their own
/// and not the runner's decides that.
pub fn devices(facts: &mut Facts, jobs_are_other_users: bool) {
    let usable = |device: &Path| {
        if jobs_are_other_users {
            const OTHERS: u32 = 0o006;
            std::fs::metadata(device).is_ok_and(|found| found.mode() & OTHERS == OTHERS)
        } else {
            access(device, AccessFlags::R_OK | AccessFlags::W_OK).is_ok()
        }
    };
    #[cfg(target_arch = "x86_64")]
    if usable(Path::new("/dev/kvm")) && super::virtualization::works() {
        facts.insert("kvm".into(), FactValue::Text("usable".into()));
    }
    let counted = |folder: &str, begins: &[&str]| {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let found = entries.filter(|entry| {
            let name = entry.file_name();
            let is_wanted = |begin: &&str| name.to_string_lossy().starts_with(begin);
            begins.iter().any(is_wanted) && usable(&entry.path())
        });
        found.count() as u64
    };
    for (fact, folder, begins) in [
        ("gpu", "/dev/dri", &["renderD"][..]),
        ("serial", "/dev", &["ttyUSB", "ttyACM"][..]),
    ] {
        let count = counted(folder, begins);
        if count > 0 {
            facts.insert(fact.into(), FactValue::Count(count));
        }
    }
    let engines = [
        ("/run/podman/podman.sock", "podman"),
        ("/run/docker.sock", "docker"),
    ];
    if let Some((_, engine)) = engines.iter().find(|(socket, _)| usable(Path::new(socket))) {
        facts.insert("engine".into(), FactValue::Text((*engine).into()));
    }
}
