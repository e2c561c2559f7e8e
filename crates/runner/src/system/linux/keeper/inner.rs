//! A and B: what `pennine-runner keep` does. It is a process of one thread that begins with exec, so that the two
//! forks in it may do as they please.
#![allow(unsafe_code)]

use super::{CommandEnd, ExitKind, Isolation, KeeperMessage, Order};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::sys::prctl;
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::signal::{SigHandler, SigSet, Signal, kill, signal};
use nix::sys::time::TimeValLike;
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, fork, getegid, geteuid, getppid, setpgid};
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Write};
use std::os::fd::{AsFd, FromRawFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::process::{Command, ExitCode, Stdio};

/// The signals with which a command is asked to end; the keepers outlive them to tell how it did.
const ASKING: [Signal; 3] = [Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP];

/// Keeps one command that the runner, this process's parent, will order on standard input.
pub fn run_keeper(isolation: Isolation, runner: i32) -> ExitCode {
    match apart(isolation, Pid::from_raw(runner)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            // B's own errors go the same way; the runner reads them in the place of an answer.
            let _ = send_message(&KeeperMessage::Refused(error as i32));
            ExitCode::FAILURE
        }
    }
}

/// A: goes apart, forks B and waits for it.
fn apart(isolation: Isolation, runner: Pid) -> nix::Result<()> {
    setpgid(Pid::from_raw(0), Pid::from_raw(0))?;
    prctl::set_pdeathsig(Signal::SIGKILL)?;
    if getppid() != runner {
        return Ok(());
    }
    for asked in ASKING {
        // SAFETY: no handler runs; the signal is ignored.
        unsafe { signal(asked, SigHandler::SigIgn)? };
    }
    let namespace = CloneFlags::CLONE_NEWPID | CloneFlags::CLONE_NEWNS;
    match isolation {
        Isolation::Namespace => unshare(namespace)?,
        Isolation::UserNamespace => {
            let (uid, gid) = (geteuid(), getegid());
            unshare(CloneFlags::CLONE_NEWUSER | namespace)?;
            // Where these cannot be written the namespace is of no use, and the command will say so.
            let _ = std::fs::write("/proc/self/setgroups", "deny");
            let _ = std::fs::write("/proc/self/uid_map", format!("{uid} {uid} 1"));
            let _ = std::fs::write("/proc/self/gid_map", format!("{gid} {gid} 1"));
        }
        Isolation::Group => {}
    }
    let first = Pid::this();
    // SAFETY: this process has one thread.
    match unsafe { fork()? } {
        ForkResult::Parent { child } => {
            let _ = let_go(&[0, 1, 2]);
            while let Err(nix::Error::EINTR) = waitpid(child, None) {}
            Ok(())
        }
        ForkResult::Child => {
            if let Err(error) = inside(isolation, first) {
                let _ = send_message(&KeeperMessage::Refused(error as i32));
            }
            Ok(())
        }
    }
}

/// With which B learns of A's death where it has to end the command's processes itself.
const ORPHANED: Signal = Signal::SIGUSR1;

/// B: waits for an order, carries it out and tells how it ended.
fn inside(isolation: Isolation, first: Pid) -> nix::Result<()> {
    if isolation == Isolation::Group {
        prctl::set_child_subreaper(true)?;
        prctl::set_pdeathsig(ORPHANED)?;
    } else {
        prctl::set_pdeathsig(Signal::SIGKILL)?;
        // A /proc of the namespace's own, so that what reads it sees the pids that getpid gives. Where mounting is
        // not allowed the outer one stays, which most programs do not notice.
        let none = None::<&str>;
        let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
        let _ = mount(none, "/", none, private, none);
        let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV | MsFlags::MS_NOEXEC;
        let _ = mount(Some("proc"), "/proc", Some("proc"), flags, none);
    }
    // No order, but the end of the line: the runner has no use for this keeper any more.
    let Some(order) = hear() else { return Ok(()) };
    // From here on both are waited for, so that neither is missed; until here the second ends this process.
    let awaited = SigSet::from_iter([Signal::SIGCHLD, ORPHANED]);
    awaited.thread_block()?;
    if isolation == Isolation::Group && getppid() != first {
        return Ok(());
    }
    let mut command = Command::new(&order.program);
    command
        .args(&order.arguments)
        .current_dir(&order.folder)
        .env_clear()
        .envs(&order.variables)
        .stdin(Stdio::null());
    // SAFETY: between fork and exec the closure makes system calls only.
    unsafe {
        command.pre_exec(move || {
            for asked in ASKING {
                signal(asked, SigHandler::SigDfl)?;
            }
            SigSet::empty().thread_set_mask()?;
            if isolation == Isolation::Group {
                prctl::set_pdeathsig(Signal::SIGKILL)?;
            }
            Ok(())
        });
    }
    let spawned = command.spawn();
    let told = match &spawned {
        Ok(_) => KeeperMessage::Started,
        Err(error) => KeeperMessage::Refused(error.raw_os_error().unwrap_or(nix::libc::EINVAL)),
    };
    // The end of the output is seen only when no process holds it open.
    let_go(&[1, 2])?;
    send_message(&told)?;
    let Ok(child) = spawned else { return Ok(()) };
    let status = reap(Pid::from_raw(child.id().cast_signed()), &awaited);
    if isolation == Isolation::Group {
        end_children();
    }
    let status = status?;
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN)?;
    let processor = usage.user_time() + usage.system_time();
    send_message(&KeeperMessage::Ended(CommandEnd {
        status,
        processor: Micros(processor.num_microseconds().max(0).unsigned_abs()),
        peak_memory: ByteSize(usage.max_rss().max(0).unsigned_abs() * 1024),
    }))
}

/// Waits until the command ends, reaping whatever else ends meanwhile. An error when A is gone.
fn reap(command: Pid, awaited: &SigSet) -> nix::Result<ExitKind> {
    loop {
        match waitpid(None, Some(WaitPidFlag::WNOHANG)) {
            Ok(WaitStatus::Exited(pid, code)) if pid == command => {
                return Ok(ExitKind::Exited(code));
            }
            Ok(WaitStatus::Signaled(pid, signal, _)) if pid == command => {
                return Ok(ExitKind::Signalled(signal as i32));
            }
            Ok(WaitStatus::StillAlive) => {
                if awaited.wait()? == ORPHANED {
                    return Err(nix::Error::ESRCH);
                }
            }
            Ok(_) | Err(nix::Error::EINTR) => {}
            Err(error) => return Err(error),
        }
    }
}

/// Ends every process that has become a child of this one, until there is none. Only where there is no namespace.
fn end_children() {
    while let Ok(children) = std::fs::read_to_string("/proc/thread-self/children") {
        let children: Vec<i32> = children
            .split_whitespace()
            .filter_map(|pid| pid.parse().ok())
            .collect();
        if children.is_empty() {
            return;
        }
        for pid in children {
            let _ = kill(Pid::from_raw(pid), Signal::SIGKILL);
        }
        // One at a time: when a process ends, this one inherits its children and has to end them before it waits for them.
        let _ = waitpid(None, None);
    }
}

fn hear() -> Option<Order> {
    let mut line = String::new();
    BufReader::new(control().ok()?)
        .read_line(&mut line)
        .ok()
        .filter(|length| *length > 0)?;
    serde_json::from_str(&line).ok()
}

fn send_message(told: &KeeperMessage) -> nix::Result<()> {
    let broken = |_| nix::Error::EIO;
    let mut line = serde_json::to_vec(told).map_err(|_| nix::Error::EIO)?;
    line.push(b'\n');
    control()
        .and_then(|mut control| control.write_all(&line))
        .map_err(broken)
}

/// Standard input, which is the socket to the runner.
fn control() -> io::Result<UnixStream> {
    let descriptor = io::stdin().as_fd().try_clone_to_owned()?;
    Ok(UnixStream::from(descriptor))
}

/// Puts nothing in the place of these standard descriptors.
fn let_go(descriptors: &[i32]) -> nix::Result<()> {
    let nothing = File::options()
        .read(true)
        .write(true)
        .open("/dev/null")
        .map_err(|_| nix::Error::EIO)?;
    for descriptor in descriptors {
        // SAFETY: the descriptor is one of the three standard ones, which nothing in this process owns; the wrapper
        // is forgotten, so it is not closed.
        let mut standard =
            std::mem::ManuallyDrop::new(unsafe { OwnedFd::from_raw_fd(*descriptor) });
        nix::unistd::dup2(&nothing, &mut standard)?;
    }
    Ok(())
}
