//! The processes of one attempt, kept together and ended together.
//!
//! ```text
//!   runner ── A ── B ── C ── …        A: first child; waits for B
//!                  └── pid 1 of the   B: reaps; when C ends it reports and exits, and the kernel ends the rest
//!                      namespace      C: the command, after exec
//! ```
//! A and B carry a parent-death signal, so whatever ends the runner ends A, then B, and with B, pid 1 of its
//! namespace, every process of the attempt, however it was detached. Where no namespace is to be had, B becomes a
//! subreaper that ends what is left by name, and what outlives even that is found at the next start of the runner by
//! the marker in its environment ([`end_leftovers`]).
//!
//! All three are forks of the runner, not programs of their own: the only exec is the command's. `spawn` returns when
//! that exec has returned, or with its error.
//!
//! Between fork and exec only system calls are made: no allocation, no locks.
#![allow(unsafe_code)]

use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// How the processes of an attempt are kept together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Isolation {
    /// A pid namespace; the runner is root.
    Namespace,
    /// A pid namespace inside a user namespace; for other users.
    UserNamespace,
    /// A process group and a subreaper only.
    Group,
}

impl Isolation {
    /// In words, for the log.
    pub fn said(self) -> &'static str {
        match self {
            Isolation::Namespace => "its processes are in a pid namespace of their own",
            Isolation::UserNamespace => {
                "its processes are in a pid and user namespace of their own"
            }
            Isolation::Group => {
                "no pid namespace is to be had here; its processes are only in a group of their own"
            }
        }
    }

    /// The best that this machine allows, found by trying.
    pub fn best() -> Isolation {
        // SAFETY: geteuid cannot fail and touches no memory.
        let root = unsafe { libc::geteuid() } == 0;
        let first = if root {
            Isolation::Namespace
        } else {
            Isolation::UserNamespace
        };
        let works = || -> io::Result<bool> {
            let mut command = Command::new("true");
            command.stdout(Stdio::null()).stderr(Stdio::null());
            let kept = spawn(command, first)?;
            Ok(kept
                .wait_blocking()?
                .is_some_and(|end| end.status == Ended::Exited(0)))
        };
        if works().unwrap_or(false) {
            first
        } else {
            Isolation::Group
        }
    }
}

/// A command that was started.
pub struct Kept {
    first: Child,
    report: OwnedFd,
}

/// How the command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ended {
    /// By itself, with this code.
    Exited(i32),
    /// By this signal.
    Signalled(i32),
}

/// What B reports.
#[derive(Clone, Copy, Debug)]
pub struct End {
    pub status: Ended,
    /// Processor time of the command and everything it waited for.
    pub processor: Micros,
    /// The largest memory that any one of its processes held.
    pub peak_memory: ByteSize,
}

/// The report as bytes: wait status, processor microseconds, peak KiB.
const REPORT_BYTES: usize = 24;

fn report_of(bytes: &[u8; REPORT_BYTES]) -> Option<End> {
    let number = |at: usize| Some(i64::from_ne_bytes(bytes.get(at..at + 8)?.try_into().ok()?));
    let (status, micros, kibibytes) = (i32::try_from(number(0)?).ok()?, number(8)?, number(16)?);
    let status = if libc::WIFSIGNALED(status) {
        Ended::Signalled(libc::WTERMSIG(status))
    } else {
        Ended::Exited(libc::WEXITSTATUS(status))
    };
    Some(End {
        status,
        processor: Micros(micros.max(0).unsigned_abs()),
        peak_memory: ByteSize(kibibytes.max(0).unsigned_abs() * 1024),
    })
}

/// A pipe whose ends close themselves at exec: (read, write).
pub fn pipe() -> io::Result<(OwnedFd, OwnedFd)> {
    let mut ends = [0; 2];
    // SAFETY: `ends` has room for the two descriptors that pipe2 writes.
    if unsafe { libc::pipe2(ends.as_mut_ptr(), libc::O_CLOEXEC) } != 0 {
        return Err(io::Error::last_os_error());
    }
    let [read, write] = ends;
    // SAFETY: both are fresh descriptors that nobody else owns.
    Ok(unsafe { (OwnedFd::from_raw_fd(read), OwnedFd::from_raw_fd(write)) })
}

/// What the forks need, made before the first of them.
struct Plan {
    isolation: Isolation,
    report: i32,
    runner: i32,
    uid_map: CString,
    gid_map: CString,
}

/// Starts a command whose output is set already. Returns when its exec has returned.
pub fn spawn(mut command: Command, isolation: Isolation) -> io::Result<Kept> {
    let (report, write) = pipe()?;
    // SAFETY: these cannot fail and touch no memory.
    let (runner, uid, gid) = unsafe { (libc::getpid(), libc::geteuid(), libc::getegid()) };
    let plan = Plan {
        isolation,
        report: write.as_raw_fd(),
        runner,
        uid_map: CString::new(format!("{uid} {uid} 1"))?,
        gid_map: CString::new(format!("{gid} {gid} 1"))?,
    };
    command.stdin(Stdio::null());
    // SAFETY: the closure makes system calls only.
    unsafe {
        command.pre_exec(move || become_command(&plan));
    }
    let spawned = command.spawn();
    drop(write);
    Ok(Kept {
        first: spawned?,
        report,
    })
}

/// Runs in A. Returns only in C, which then execs.
fn become_command(plan: &Plan) -> io::Result<()> {
    // SAFETY: system calls with plain numbers and strings that outlive them. No memory is shared with the runner any
    // more, and nothing here takes a lock.
    unsafe {
        libc::setpgid(0, 0);
        die_with_parent();
        if libc::getppid() != plan.runner {
            libc::_exit(1);
        }
        match plan.isolation {
            Isolation::Namespace => check(libc::unshare(libc::CLONE_NEWPID | libc::CLONE_NEWNS))?,
            Isolation::UserNamespace => {
                check(libc::unshare(
                    libc::CLONE_NEWUSER | libc::CLONE_NEWPID | libc::CLONE_NEWNS,
                ))?;
                write_file(c"/proc/self/setgroups", c"deny");
                write_file(c"/proc/self/uid_map", &plan.uid_map);
                write_file(c"/proc/self/gid_map", &plan.gid_map);
            }
            Isolation::Group => {}
        }
        let second = fork()?;
        if second > 0 {
            close_from(0, -1);
            for signal in [libc::SIGTERM, libc::SIGINT, libc::SIGHUP] {
                libc::signal(signal, libc::SIG_IGN);
            }
            let mut status = 0;
            while libc::waitpid(second, &mut status, 0) < 0 && errno() == libc::EINTR {}
            libc::_exit(0);
        }
        die_with_parent();
        if plan.isolation == Isolation::Group {
            libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1);
        } else {
            // A /proc of the namespace's own, so that what reads it sees the pids that getpid gives. Where mounting
            // is not allowed the outer one stays, which most programs do not notice.
            libc::mount(
                c"none".as_ptr(),
                c"/".as_ptr(),
                std::ptr::null(),
                libc::MS_REC | libc::MS_PRIVATE,
                std::ptr::null(),
            );
            let flags = libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC;
            libc::mount(
                c"proc".as_ptr(),
                c"/proc".as_ptr(),
                c"proc".as_ptr(),
                flags,
                std::ptr::null(),
            );
        }
        let third = fork()?;
        if third > 0 {
            keep(plan, third);
        }
        if plan.isolation == Isolation::Group {
            die_with_parent();
        }
        Ok(())
    }
}

/// Runs in B until C ends; never returns.
///
/// # Safety
/// Only between fork and exec.
unsafe fn keep(plan: &Plan, command: i32) -> ! {
    // SAFETY: as in `become_command`.
    unsafe {
        close_from(0, plan.report);
        for signal in [libc::SIGTERM, libc::SIGINT, libc::SIGHUP] {
            libc::signal(signal, libc::SIG_IGN);
        }
        let mut status = 0;
        loop {
            let ended = libc::waitpid(-1, &mut status, 0);
            if ended == command {
                break;
            }
            if ended < 0 && errno() != libc::EINTR {
                break;
            }
        }
        if plan.isolation == Isolation::Group {
            end_children();
        }
        let mut usage: libc::rusage = std::mem::zeroed();
        libc::getrusage(libc::RUSAGE_CHILDREN, &mut usage);
        let micros = |time: libc::timeval| time.tv_sec * 1_000_000 + time.tv_usec;
        let report = [
            i64::from(status),
            micros(usage.ru_utime) + micros(usage.ru_stime),
            usage.ru_maxrss,
        ];
        libc::write(plan.report, report.as_ptr().cast(), REPORT_BYTES);
        libc::_exit(0)
    }
}

/// Ends every process that has become a child of this one, until there is none. Only where there is no namespace.
///
/// # Safety
/// Only between fork and exec.
unsafe fn end_children() {
    // SAFETY: the buffer is on the stack and bounded.
    unsafe {
        let mut buffer = [0u8; 4096];
        loop {
            let file = libc::open(c"/proc/thread-self/children".as_ptr(), libc::O_RDONLY);
            if file < 0 {
                return;
            }
            let length = libc::read(file, buffer.as_mut_ptr().cast(), buffer.len());
            libc::close(file);
            let (mut pid, mut found) = (0i32, false);
            for byte in buffer.iter().take(usize::try_from(length).unwrap_or(0)) {
                if byte.is_ascii_digit() {
                    pid = pid.wrapping_mul(10).wrapping_add(i32::from(byte - b'0'));
                } else if pid > 0 {
                    libc::kill(pid, libc::SIGKILL);
                    found = true;
                    pid = 0;
                }
            }
            if !found {
                return;
            }
            let mut status = 0;
            while libc::waitpid(-1, &mut status, 0) > 0 {}
        }
    }
}

/// # Safety
/// Only between fork and exec.
unsafe fn die_with_parent() {
    // SAFETY: a system call with plain numbers.
    unsafe {
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
    }
}

/// A fork that runs none of the C library's handlers, which may take locks.
///
/// # Safety
/// Only between fork and exec.
unsafe fn fork() -> io::Result<i32> {
    // SAFETY: without CLONE_VM this is fork; the stack is copied.
    let pid = unsafe {
        libc::syscall(
            libc::SYS_clone,
            libc::c_long::from(libc::SIGCHLD),
            0,
            0,
            0,
            0,
        )
    };
    if pid < 0 {
        Err(io::Error::last_os_error())
    } else {
        Ok(pid as i32)
    }
}

fn errno() -> i32 {
    io::Error::last_os_error().raw_os_error().unwrap_or(0)
}

fn check(result: i32) -> io::Result<()> {
    if result == 0 {
        Ok(())
    } else {
        Err(io::Error::last_os_error())
    }
}

/// Closes every descriptor from `first` on, except one.
///
/// # Safety
/// Only between fork and exec.
unsafe fn close_from(first: u32, except: i32) {
    // SAFETY: a system call with plain numbers.
    unsafe {
        match u32::try_from(except) {
            Ok(except) if except >= first => {
                if except > first {
                    libc::syscall(libc::SYS_close_range, first, except - 1, 0);
                }
                libc::syscall(libc::SYS_close_range, except + 1, u32::MAX, 0);
            }
            _ => {
                libc::syscall(libc::SYS_close_range, first, u32::MAX, 0);
            }
        }
    }
}

/// # Safety
/// Only between fork and exec.
unsafe fn write_file(path: &std::ffi::CStr, text: &std::ffi::CStr) {
    // SAFETY: both are terminated strings that outlive the calls.
    unsafe {
        let file = libc::open(path.as_ptr(), libc::O_WRONLY);
        if file >= 0 {
            libc::write(file, text.as_ptr().cast(), text.to_bytes().len());
            libc::close(file);
        }
    }
}

impl Kept {
    fn signal_group(&self, signal: i32) {
        if let Ok(group) = i32::try_from(self.first.id()) {
            // SAFETY: a system call with plain numbers; the child is not reaped yet, so the number is still its.
            unsafe {
                libc::kill(-group, signal);
            }
        }
    }

    /// Asks the command to end.
    pub fn ask(&self) {
        self.signal_group(libc::SIGTERM);
    }

    /// Ends everything at once.
    pub fn kill(&self) {
        self.signal_group(libc::SIGKILL);
    }

    /// A descriptor that becomes readable when the command has ended.
    pub fn report_fd(&self) -> io::Result<OwnedFd> {
        self.report.try_clone()
    }

    /// Reads the report, which is there when [`Self::report_fd`] is readable, and reaps. No report means that the
    /// keeper itself was killed.
    pub fn wait_blocking(mut self) -> io::Result<Option<End>> {
        use std::io::Read;
        let mut bytes = [0u8; REPORT_BYTES];
        let mut file = std::fs::File::from(self.report);
        let end = file
            .read_exact(&mut bytes)
            .ok()
            .and_then(|()| report_of(&bytes));
        self.first.wait()?;
        Ok(end)
    }
}

/// The variable that marks an attempt's processes.
pub const MARKER: &str = "PENNINE_ATTEMPT";

/// Ends processes that an earlier life of the runner left behind: those whose environment names one of these attempts.
/// How many there were comes back.
pub fn end_leftovers(attempts: &[String]) -> usize {
    let mut ended = 0;
    for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry
            .file_name()
            .to_str()
            .and_then(|name| name.parse::<i32>().ok())
        else {
            continue;
        };
        let marked = std::fs::read(Path::new("/proc").join(pid.to_string()).join("environ"))
            .is_ok_and(|environ| {
                environ.split(|byte| *byte == 0).any(|pair| {
                    let value = pair
                        .strip_prefix(MARKER.as_bytes())
                        .and_then(|rest| rest.strip_prefix(b"="));
                    value.is_some_and(|value| {
                        attempts.iter().any(|attempt| attempt.as_bytes() == value)
                    })
                })
            });
        if marked {
            // SAFETY: a system call with plain numbers.
            unsafe {
                libc::kill(pid, libc::SIGKILL);
            }
            ended += 1;
        }
    }
    ended
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    fn run(isolation: Isolation, script: &str) -> (Option<End>, String) {
        let (read, write) = pipe().unwrap();
        let mut command = Command::new("sh");
        command
            .args(["-c", script])
            .stdout(write.try_clone().unwrap())
            .stderr(write);
        let kept = spawn(command, isolation).unwrap();
        let mut said = String::new();
        std::fs::File::from(read).read_to_string(&mut said).unwrap();
        (kept.wait_blocking().unwrap(), said)
    }

    fn each(check: impl Fn(Isolation)) {
        let best = Isolation::best();
        check(best);
        if best != Isolation::Group {
            check(Isolation::Group);
        }
    }

    #[test]
    fn exit_codes_and_signals_are_told_apart() {
        each(|isolation| {
            let (end, said) = run(isolation, "echo out; echo err >&2; exit 7");
            assert_eq!(end.unwrap().status, Ended::Exited(7), "{isolation:?}");
            assert_eq!(said, "out\nerr\n");
            let (end, _) = run(isolation, "kill -9 $$");
            assert_eq!(end.unwrap().status, Ended::Signalled(9), "{isolation:?}");
        });
    }

    #[test]
    fn a_command_that_is_not_there_is_an_error_of_spawn() {
        each(|isolation| {
            let error = spawn(Command::new("/no/such/command"), isolation)
                .err()
                .expect("an error");
            assert_eq!(error.kind(), io::ErrorKind::NotFound, "{isolation:?}");
        });
    }

    #[test]
    fn what_the_command_leaves_behind_ends_with_it() {
        each(|isolation| {
            // The detached sleeper keeps the output open: reading to its end proves that it is gone.
            let (end, said) = run(isolation, "setsid sleep 1000 & echo started");
            assert_eq!(end.unwrap().status, Ended::Exited(0), "{isolation:?}");
            assert_eq!(said, "started\n");
        });
    }

    #[test]
    fn processor_time_and_memory_are_measured() {
        each(|isolation| {
            let (end, _) = run(
                isolation,
                "i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done",
            );
            let end = end.unwrap();
            assert!(end.processor.0 > 1000, "{isolation:?}: {end:?}");
            assert!(end.peak_memory.0 > 100 << 10, "{isolation:?}: {end:?}");
        });
    }

    #[test]
    fn a_command_that_is_asked_may_clean_up() {
        each(|isolation| {
            let (read, write) = pipe().unwrap();
            let mut command = Command::new("sh");
            command
                .args([
                    "-c",
                    "trap 'echo bye; exit 3' TERM; echo ready; while :; do sleep 0.05; done",
                ])
                .stdout(write);
            let kept = spawn(command, isolation).unwrap();
            let mut read = std::fs::File::from(read);
            let mut ready = [0u8; 6];
            read.read_exact(&mut ready).unwrap();
            kept.ask();
            let mut rest = String::new();
            read.read_to_string(&mut rest).unwrap();
            assert_eq!(rest, "bye\n", "{isolation:?}");
            assert_eq!(
                kept.wait_blocking().unwrap().unwrap().status,
                Ended::Exited(3)
            );
        });
    }

    #[test]
    fn a_command_that_is_killed_takes_everything_with_it() {
        let best = Isolation::best();
        let (read, write) = pipe().unwrap();
        let mut command = Command::new("sh");
        command
            .args([
                "-c",
                "setsid sleep 1000 & trap '' TERM; echo ready; sleep 1000",
            ])
            .stdout(write);
        let kept = spawn(command, best).unwrap();
        let mut read = std::fs::File::from(read);
        let mut ready = [0u8; 6];
        read.read_exact(&mut ready).unwrap();
        kept.kill();
        let mut rest = String::new();
        read.read_to_string(&mut rest).unwrap();
        assert!(kept.wait_blocking().unwrap().is_none());
    }

    #[test]
    fn leftovers_are_found_by_their_marker() {
        let attempt = format!("leftover-{}", std::process::id());
        let mut child = Command::new("sleep")
            .arg("1000")
            .env(MARKER, &attempt)
            .spawn()
            .unwrap();
        assert_eq!(end_leftovers(std::slice::from_ref(&attempt)), 1);
        assert!(!child.wait().unwrap().success());
    }
}
