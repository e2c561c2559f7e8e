//! The sandbox: bubblewrap around the job, and a filter of system calls.
//!
//! ```text
//!   B ── bwrap ── bwrap (pid 1) ── this program (`keep-command`) = the command after exec
//! ```
//! Everything is made ahead of time; the program inside waits for the order on its standard input.

use super::{Enclosure, Sandbox};
use nix::sys::memfd::{MFdFlags, memfd_create};
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter,
    SeccompRule,
};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs::File;
use std::io::{Seek, Write};
use std::os::fd::{AsRawFd, OwnedFd};

/// The program.
pub const PROGRAM: &str = "bwrap";

/// The arguments of bubblewrap for a job. `filters` hold the filters of system calls, `program` this program.
pub fn arguments(
    enclosure: &Enclosure,
    sandbox: Sandbox,
    filters: &[OwnedFd],
    program: &OwnedFd,
) -> Vec<OsString> {
    let folder = enclosure.folder.clone().into_os_string();
    let workspace = enclosure.folder.join("workspace").into_os_string();
    let mut all: Vec<OsString> = Vec::new();
    let mut add = |words: &[&str]| all.extend(words.iter().map(OsString::from));
    // Not of users alone: where unprivileged namespaces of users are closed, there is no sandbox.
    add(&[
        "--unshare-user",
        "--unshare-pid",
        "--unshare-ipc",
        "--unshare-uts",
        "--unshare-cgroup-try",
    ]);
    if !sandbox.network {
        add(&["--unshare-net"]);
    }
    add(&["--die-with-parent", "--cap-drop", "ALL"]);
    add(&["--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc"]);
    add(&["--tmpfs", "/run"]);
    for filter in filters {
        all.extend([
            "--add-seccomp-fd".into(),
            filter.as_raw_fd().to_string().into(),
        ]);
    }
    for place in ["/tmp".into(), "/var/tmp".into(), folder] {
        all.extend(["--bind".into(), OsString::clone(&place), place]);
    }
    all.extend(["--chdir".into(), workspace, "--".into()]);
    all.push(format!("/proc/self/fd/{}", program.as_raw_fd()).into());
    all.push("keep-command".into());
    all
}

/// System calls that no build needs and that have let programs out of sandboxes: they return an error.
const REFUSED: &[i64] = &[
    nix::libc::SYS_acct,
    nix::libc::SYS_add_key,
    nix::libc::SYS_bpf,
    nix::libc::SYS_delete_module,
    nix::libc::SYS_finit_module,
    nix::libc::SYS_fsconfig,
    nix::libc::SYS_fsmount,
    nix::libc::SYS_fsopen,
    nix::libc::SYS_fspick,
    nix::libc::SYS_init_module,
    nix::libc::SYS_io_uring_enter,
    nix::libc::SYS_io_uring_register,
    nix::libc::SYS_io_uring_setup,
    nix::libc::SYS_kexec_file_load,
    nix::libc::SYS_kexec_load,
    nix::libc::SYS_keyctl,
    nix::libc::SYS_mount,
    nix::libc::SYS_mount_setattr,
    nix::libc::SYS_move_mount,
    nix::libc::SYS_open_by_handle_at,
    nix::libc::SYS_open_tree,
    nix::libc::SYS_perf_event_open,
    nix::libc::SYS_pivot_root,
    nix::libc::SYS_quotactl,
    nix::libc::SYS_reboot,
    nix::libc::SYS_request_key,
    nix::libc::SYS_setns,
    nix::libc::SYS_swapoff,
    nix::libc::SYS_swapon,
    nix::libc::SYS_syslog,
    nix::libc::SYS_umount2,
    nix::libc::SYS_unshare,
    nix::libc::SYS_userfaultfd,
];

/// Why the filter cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum FilterError {
    /// The rules do not compile for this processor.
    #[error("the filter of system calls: {0}")]
    Rules(#[from] seccompiler::BackendError),
    /// It cannot be handed over.
    #[error("the filter of system calls: {0}")]
    File(#[from] std::io::Error),
}

/// Refuses a call whose argument, masked, is this.
fn masked(argument: u8, mask: u64, value: u64) -> Result<SeccompRule, seccompiler::BackendError> {
    SeccompRule::new(vec![SeccompCondition::new(
        argument,
        SeccompCmpArgLen::Dword,
        SeccompCmpOp::MaskedEq(mask),
        value,
    )?])
}

/// The filter as the kernel takes it.
fn program(
    calls: BTreeMap<i64, Vec<SeccompRule>>,
    error: i32,
) -> Result<BpfProgram, seccompiler::BackendError> {
    let arch = std::env::consts::ARCH.try_into()?;
    let refuse = SeccompAction::Errno(error.unsigned_abs());
    SeccompFilter::new(calls, SeccompAction::Allow, refuse, arch)?.try_into()
}

/// Returns the filters in files that a child inherits, for bubblewrap.
///
/// A namespace of users is refused too, since what is behind it is where most faults of the kernel were found. `clone3`
/// hides its flags from a filter and is therefore "not implemented", upon which the C library takes `clone`.
pub fn filters() -> Result<[OwnedFd; 2], FilterError> {
    let new_user = u64::from(nix::libc::CLONE_NEWUSER.cast_unsigned());
    let mut refused: BTreeMap<i64, Vec<SeccompRule>> =
        REFUSED.iter().map(|call| (*call, Vec::new())).collect();
    refused.insert(nix::libc::SYS_clone, vec![masked(0, new_user, new_user)?]);
    // Characters put into a terminal's input, which a shell outside would read.
    let terminal = [nix::libc::TIOCSTI, nix::libc::TIOCLINUX];
    let rules = terminal
        .into_iter()
        .map(|request| masked(1, u64::from(u32::MAX), request));
    refused.insert(nix::libc::SYS_ioctl, rules.collect::<Result<_, _>>()?);
    let missing = [(nix::libc::SYS_clone3, Vec::new())].into();
    Ok([
        in_file(&program(refused, nix::libc::EPERM)?)?,
        in_file(&program(missing, nix::libc::ENOSYS)?)?,
    ])
}

/// A filter as `struct sock_filter` of the kernel, in a file in memory.
fn in_file(filter: &BpfProgram) -> std::io::Result<OwnedFd> {
    let mut file = File::from(memfd_create(c"filter", MFdFlags::empty())?);
    for instruction in filter {
        file.write_all(&instruction.code.to_ne_bytes())?;
        file.write_all(&[instruction.jt, instruction.jf])?;
        file.write_all(&instruction.k.to_ne_bytes())?;
    }
    file.rewind()?;
    Ok(file.into())
}
