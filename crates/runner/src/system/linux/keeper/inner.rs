//! A and B: what `pennine-runner keep` does. It is a process of one thread that begins with exec, so that the two
//! forks in it may do as they please.
#![allow(unsafe_code)]

use super::{CommandEnd, ExitKind, KeeperMessage, KeeperSettings, Mechanism, Order};
use crate::system::isolation::{Enclosure, JobUser, Sandbox, mounts, sandbox, sized_disk};
use nix::fcntl::{FcntlArg, FdFlag, fcntl};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::sys::prctl;
use nix::sys::resource::{Resource, UsageWho, getrusage, setrlimit};
use nix::sys::signal::{SigHandler, SigSet, Signal, kill, signal};
use nix::sys::time::TimeValLike;
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, fork, getegid, geteuid, getppid};
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::fd::{AsFd, AsRawFd, FromRawFd, OwnedFd};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, chown};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::process::{Command, ExitCode, Stdio};
use std::time::Duration;

/// The signals with which a command is asked to end; the keepers outlive them to tell how it did.
const ASKING: [Signal; 3] = [Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP];

/// Keeps one command that the runner, this process's parent, will order on standard input.
pub fn run_keeper(settings: &str) -> ExitCode {
    let Ok(settings) = serde_json::from_str::<KeeperSettings>(settings) else {
        return ExitCode::FAILURE;
    };
    match apart(&settings) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            // B's own errors go the same way; the runner reads them in the place of an answer.
            let _ = send_message(&KeeperMessage::Unfit(failure.0));
            ExitCode::FAILURE
        }
    }
}

/// Why a keeper cannot keep a command, for people.
struct Failure(String);

impl Failure {
    fn of<E: std::fmt::Display>(what: &str) -> impl Fn(E) -> Failure {
        move |error| Failure(format!("{what}: {error}"))
    }
}

/// A: goes apart, forks B and waits for it.
fn apart(settings: &KeeperSettings) -> Result<(), Failure> {
    // A session of its own: no terminal of the runner's is the job's.
    nix::unistd::setsid().map_err(Failure::of("setsid"))?;
    prctl::set_pdeathsig(Signal::SIGKILL).map_err(Failure::of("prctl"))?;
    if getppid() != Pid::from_raw(settings.runner) {
        return Ok(());
    }
    for asked in ASKING {
        // SAFETY: no handler runs; the signal is ignored.
        unsafe { signal(asked, SigHandler::SigIgn).map_err(Failure::of("signal"))? };
    }
    for membership in &settings.groups {
        let what = format!("cannot join {}", membership.display());
        std::fs::write(membership, "0").map_err(Failure::of(&what))?;
    }
    let map = match settings.user {
        Some(JobUser { uid, disk }) if uid != disk => {
            Some(mounts::id_map(disk, uid).map_err(Failure::of("cannot map user ids"))?)
        }
        _ => None,
    };
    unshare_for(settings.mechanism).map_err(Failure::of("cannot make namespaces"))?;
    let first = Pid::this();
    // SAFETY: this process has one thread.
    match unsafe { fork().map_err(Failure::of("fork"))? } {
        ForkResult::Parent { child } => {
            let _ = let_go(&[0, 1, 2]);
            while let Err(nix::Error::EINTR) = waitpid(child, None) {}
            Ok(())
        }
        ForkResult::Child => {
            if let Err(Failure(message)) = inside(settings, map.as_ref(), first) {
                let _ = send_message(&KeeperMessage::Unfit(message));
            }
            Ok(())
        }
    }
}

/// The number of a command's user in its namespace where the runner is the root of a container.
const UNPRIVILEGED: u32 = 1000;

/// Makes the namespaces of the processes to come.
fn unshare_for(mechanism: Mechanism) -> nix::Result<()> {
    let namespaces = CloneFlags::CLONE_NEWPID | CloneFlags::CLONE_NEWNS | CloneFlags::CLONE_NEWIPC;
    match mechanism {
        Mechanism::Namespace => unshare(namespaces),
        Mechanism::UserNamespace => {
            let (uid, gid) = (geteuid(), getegid());
            // As root of the new namespace the command could undo what is made for it: there it has another number.
            let is_root = uid.is_root();
            let inside = |number: u32| if is_root { UNPRIVILEGED } else { number };
            let map = |number| format!("{} {number} 1", inside(number));
            unshare(CloneFlags::CLONE_NEWUSER | namespaces)?;
            // Where these cannot be written the namespace is of no use, and the command will say so.
            let _ = std::fs::write("/proc/self/setgroups", "deny");
            let _ = std::fs::write("/proc/self/uid_map", map(uid.as_raw()));
            let _ = std::fs::write("/proc/self/gid_map", map(gid.as_raw()));
            Ok(())
        }
        Mechanism::Group => Ok(()),
    }
}

/// With which B learns of A's death where it has to end the command's processes itself.
const ORPHANED: Signal = Signal::SIGUSR1;

/// What the command is called in messages to people.
const COMMAND: &str = "cannot start the command";

/// B: makes what surrounds the command, waits for an order, carries it out and tells how it ended.
fn inside(settings: &KeeperSettings, map: Option<&File>, first: Pid) -> Result<(), Failure> {
    let is_group = settings.mechanism == Mechanism::Group;
    if is_group {
        prctl::set_child_subreaper(true).map_err(Failure::of("prctl"))?;
        prctl::set_pdeathsig(ORPHANED).map_err(Failure::of("prctl"))?;
    } else {
        own_view(settings, map)?;
        // Only now: a change of the file system's user, as in making the view, takes it away again.
        prctl::set_pdeathsig(Signal::SIGKILL).map_err(Failure::of("prctl"))?;
    }
    // From here on both are waited for, so that neither is missed.
    let mut awaited = SigSet::empty();
    awaited.add(Signal::SIGCHLD);
    if is_group {
        awaited.add(ORPHANED);
    }
    let started = settings.enclosure.as_ref().and_then(|enclosure| {
        let sandbox = enclosure.sandbox?;
        Some(in_sandbox(settings, enclosure, sandbox))
    });
    let sandboxed = started.transpose()?;
    send_message(&KeeperMessage::Ready).map_err(Failure::of("the runner does not listen"))?;
    // No order, but the end of the line: the runner has no use for this keeper any more.
    let line = control().map_err(Failure::of("the runner does not listen"))?;
    let Some(order) = hear(&line) else {
        return Ok(());
    };
    awaited.thread_block().map_err(Failure::of("sigmask"))?;
    if is_group && getppid() != first {
        return Ok(());
    }
    let spawned = match sandboxed {
        Some(waiting) => waiting.start(&order),
        None => {
            write_secrets(&order, settings.user).map_err(Failure::of("the files of secrets"))?;
            command(&order, settings).spawn().map(|child| child.id())
        }
    };
    let told = match &spawned {
        Ok(_) => KeeperMessage::Started,
        Err(error) => KeeperMessage::Refused(error.raw_os_error().unwrap_or(nix::libc::EINVAL)),
    };
    // The end of the output is seen only when no process holds it open.
    let_go(&[1, 2]).map_err(Failure::of(COMMAND))?;
    send_message(&told).map_err(Failure::of(COMMAND))?;
    let Ok(child) = spawned else { return Ok(()) };
    let status = reap(Pid::from_raw(child.cast_signed()), &awaited);
    if is_group {
        end_children();
    }
    let status = status.map_err(Failure::of("wait"))?;
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN).map_err(Failure::of("getrusage"))?;
    let enclosure = settings.enclosure.as_ref();
    let sized = enclosure.filter(|enclosure| enclosure.disk.is_some());
    let processor = usage.user_time() + usage.system_time();
    send_message(&KeeperMessage::Ended(CommandEnd {
        status,
        processor: Micros(processor.num_microseconds().max(0).unsigned_abs()),
        peak_memory: ByteSize(usage.max_rss().max(0).unsigned_abs() * 1024),
        bytes_read: blocks(usage.block_reads()),
        bytes_written: blocks(usage.block_writes()),
        disk_is_full: sized.is_some_and(|enclosure| sized_disk::is_full(&enclosure.folder)),
    }))
    .map_err(Failure::of("the runner does not listen"))
}

/// Linux counts the storage that processes used in blocks of 512 bytes (getrusage(2), ru_inblock and ru_oublock).
fn blocks(count: nix::libc::c_long) -> ByteSize {
    ByteSize(count.max(0).unsigned_abs().saturating_mul(512))
}

/// The view of the file system in the namespace: what the enclosure asks for, and a /proc of the namespace's own, so that
/// what reads it sees the pids that getpid gives. Where mounting that is not allowed the outer one stays, which most
/// programs do not notice.
fn own_view(settings: &KeeperSettings, map: Option<&File>) -> Result<(), Failure> {
    let none = None::<&str>;
    let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
    let made = mount(none, "/", none, private, none);
    if let Some(enclosure) = &settings.enclosure {
        made.map_err(Failure::of("the mounts cannot be made private"))?;
        if let Some(size) = enclosure.disk {
            sized_disk::attach(&enclosure.folder, size, settings.user).map_err(Failure)?;
        }
        mounts::enclose(enclosure, settings.user, map).map_err(Failure)?;
    }
    let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV | MsFlags::MS_NOEXEC;
    let _ = mount(Some("proc"), "/proc", Some("proc"), flags, none);
    Ok(())
}

/// Makes the kernel end a job before anything else of the machine when memory runs out (-1000 to 1000).
const OUT_OF_MEMORY_FIRST: &str = "500";

/// Writes the files of an order's secrets, for the command's user alone.
fn write_secrets(order: &Order, user: Option<JobUser>) -> io::Result<()> {
    if order.secret_files.is_empty() {
        return Ok(());
    }
    let folder = &order.secrets_folder;
    std::fs::DirBuilder::new().mode(0o700).create(folder)?;
    for (name, text) in &order.secret_files {
        let path = folder.join(name);
        let mut file = File::options()
            .write(true)
            .create_new(true)
            .mode(0o400)
            .open(&path)?;
        file.write_all(text.as_bytes())?;
        if let Some(JobUser { uid, .. }) = user {
            chown(&path, Some(uid), Some(uid))?;
        }
    }
    if let Some(JobUser { uid, .. }) = user {
        chown(folder, Some(uid), Some(uid))?;
    }
    Ok(())
}

/// The command of an order, with its own environment and no input.
fn ordered(order: &Order) -> Command {
    let mut command = Command::new(&order.program);
    command
        .args(&order.arguments)
        .current_dir(&order.folder)
        .env_clear()
        .envs(&order.variables)
        .stdin(Stdio::null());
    command
}

/// The command of an order, as a child of B.
fn command(order: &Order, settings: &KeeperSettings) -> Command {
    let mut command = ordered(order);
    become_job(&mut command, settings, true);
    command
}

/// Privileges with which a command that is root, or becomes it through a set-user-id program, could undo what surrounds it
/// or reach the machine past its files (capabilities(7), with their numbers in linux/capability.h).
const DROPPED: [u64; 17] = [
    2,  // DAC_READ_SEARCH: open files by handle
    9,  // LINUX_IMMUTABLE
    16, // SYS_MODULE
    17, // SYS_RAWIO
    19, // SYS_PTRACE
    20, // SYS_PACCT
    21, // SYS_ADMIN
    22, // SYS_BOOT
    24, // SYS_RESOURCE
    25, // SYS_TIME
    26, // SYS_TTY_CONFIG
    27, // MKNOD
    32, // MAC_OVERRIDE
    33, // MAC_ADMIN
    34, // SYSLOG
    38, // PERFMON
    39, // BPF
];

/// What a child of B does before exec: it takes the job's user, drops what a job must not have, and is the first to go when
/// memory runs out.
fn become_job(command: &mut Command, settings: &KeeperSettings, takes_signals: bool) {
    let is_group = settings.mechanism == Mechanism::Group;
    let is_enclosed = settings.enclosure.is_some();
    let user = settings.user;
    let most_processes = settings.most_processes;
    // SAFETY: between fork and exec the closure makes system calls only; this process has one thread.
    unsafe {
        command.pre_exec(move || {
            let _ = std::fs::write("/proc/self/oom_score_adj", OUT_OF_MEMORY_FIRST);
            if is_enclosed {
                for capability in DROPPED {
                    // One that the machine does not know, or that is dropped already, is no loss.
                    nix::libc::prctl(nix::libc::PR_CAPBSET_DROP, capability, 0, 0, 0);
                }
            }
            if let Some(JobUser { uid, .. }) = user {
                if let Some(most) = most_processes {
                    // The user is this job's alone, so its processes are the job's.
                    setrlimit(Resource::RLIMIT_NPROC, most.into(), most.into())?;
                }
                nix::unistd::setgroups(&[])?;
                nix::unistd::setgid(uid.into())?;
                nix::unistd::setuid(uid.into())?;
            }
            if takes_signals {
                for asked in ASKING {
                    signal(asked, SigHandler::SigDfl)?;
                }
            }
            SigSet::empty().thread_set_mask()?;
            if is_group {
                prctl::set_pdeathsig(Signal::SIGKILL)?;
            }
            Ok(())
        });
    }
}

/// This program inside the sandbox, waiting for an order.
struct WaitingCommand {
    child: std::process::Child,
    orders: UnixStream,
}

/// How often it is looked at whether the sandbox has failed, and how many times before it has to be ready.
const SANDBOX_TICK: Duration = Duration::from_millis(100);
const SANDBOX_TICKS: u32 = 200;

/// Starts the sandbox ahead of time.
fn in_sandbox(
    settings: &KeeperSettings,
    enclosure: &Enclosure,
    wanted: Sandbox,
) -> Result<WaitingCommand, Failure> {
    let filters = sandbox::filters().map_err(Failure::of("the sandbox"))?;
    let program: OwnedFd = File::open("/proc/self/exe")
        .map_err(Failure::of("the runner's program cannot be opened"))?
        .into();
    let (orders, theirs) = UnixStream::pair().map_err(Failure::of("a socket"))?;
    let theirs = OwnedFd::from(theirs);
    for descriptor in filters.iter().chain([&program, &theirs]) {
        fcntl(descriptor, FcntlArg::F_SETFD(FdFlag::empty())).map_err(Failure::of("fcntl"))?;
    }
    let mut command = Command::new(sandbox::PROGRAM);
    command
        .args(sandbox::arguments(enclosure, wanted, &filters, &program))
        // Not as standard input, which bubblewrap itself would hold open: the end of the line shows that exec has returned.
        .arg(theirs.as_raw_fd().to_string())
        .env_clear()
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .current_dir("/")
        .stdin(Stdio::null());
    // The signals that ask a job to end are for the command; the sandbox outlives them.
    become_job(&mut command, settings, false);
    let child = command.spawn().map_err(|error| {
        let remedy = "install bubblewrap (apt-get install bubblewrap)";
        Failure(format!(
            "{} cannot be started: {error}; {remedy}",
            sandbox::PROGRAM
        ))
    })?;
    drop(theirs);
    let mut waiting = WaitingCommand { child, orders };
    // It says so when it waits. Where the sandbox cannot be made, bubblewrap ends and has said why on the output; a child
    // of it may go on and keep the line open.
    let tick = waiting.orders.set_read_timeout(Some(SANDBOX_TICK));
    tick.map_err(Failure::of("a socket"))?;
    for _ in 0..SANDBOX_TICKS {
        match (&waiting.orders).read(&mut [0]) {
            Ok(1) => {
                let forever = waiting.orders.set_read_timeout(None);
                forever.map_err(Failure::of("a socket"))?;
                return Ok(waiting);
            }
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            _ => break,
        }
        if !matches!(waiting.child.try_wait(), Ok(None)) {
            break;
        }
    }
    Err(Failure("the sandbox cannot be made".to_owned()))
}

impl WaitingCommand {
    /// Lets it become the command. Returns the number of the process to wait for.
    fn start(mut self, order: &Order) -> io::Result<u32> {
        let mut line = serde_json::to_vec(order)?;
        line.push(b'\n');
        self.orders.write_all(&line)?;
        // The other end is closed by a successful exec; before that an error number comes.
        let mut refused = String::new();
        self.orders.read_to_string(&mut refused)?;
        match refused.trim().parse() {
            Ok(number) => Err(io::Error::from_raw_os_error(number)),
            Err(_) => Ok(self.child.id()),
        }
    }
}

/// What this program does inside the sandbox: it waits for an order and becomes the command.
pub fn run_command(socket: i32) -> ExitCode {
    // SAFETY: the descriptor was made for this program by the one that started it, and nothing else here owns it.
    let socket = unsafe { OwnedFd::from_raw_fd(socket) };
    if fcntl(&socket, FcntlArg::F_SETFD(FdFlag::FD_CLOEXEC)).is_err() {
        return ExitCode::FAILURE;
    }
    let mut orders = UnixStream::from(socket);
    if orders.write_all(b"r").is_err() {
        return ExitCode::FAILURE;
    }
    let Some(order) = hear(&orders) else {
        return ExitCode::SUCCESS;
    };
    if let Err(error) = write_secrets(&order, None) {
        let number = error.raw_os_error().unwrap_or(nix::libc::EIO);
        let _ = orders.write_all(format!("{number}\n").as_bytes());
        return ExitCode::FAILURE;
    }
    let mut command = ordered(&order);
    for asked in ASKING {
        // SAFETY: no handler runs; the signal has its default effect again.
        let _ = unsafe { signal(asked, SigHandler::SigDfl) };
    }
    let error = command.exec();
    let number = error.raw_os_error().unwrap_or(nix::libc::EINVAL);
    let _ = orders.write_all(format!("{number}\n").as_bytes());
    ExitCode::FAILURE
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

fn hear(stream: &UnixStream) -> Option<Order> {
    let mut line = String::new();
    BufReader::new(stream)
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
