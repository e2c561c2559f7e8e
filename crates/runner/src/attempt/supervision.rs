//! A command while it runs: its output, and what ends it before it ends by itself.

use super::identity::IdentitySocket;
use crate::environment::RunnerEnvironment;
use crate::handle::AttemptHandle;
use crate::journal::{RecordedEnd, RecordedResult};
use crate::masking::Masker;
use crate::spool::Spool;
use crate::system::clock::BootMark;
use crate::system::isolation::control_group::memory_limit_reached;
use crate::system::isolation::folder::JobFolder;
use crate::system::isolation::usage;
use crate::system::keeper::{self, CommandEnd, ExitKind, Mechanism, ProcessGroup, Running};
use pennine_core::job_policy::{JobLimits, JobPolicy};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::phase::Phases;
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Assigned, LossCause, StopCause};
use std::io;
use std::path::PathBuf;
use std::time::{Duration, Instant};
use tokio::io::AsyncReadExt;

/// How often it is looked at whether this runner is cut off.
const LOOK: Duration = Duration::from_secs(1);
/// How long a command that was asked to end may take before it is ended.
const ASKED: Duration = Duration::from_secs(10);
/// After how long without output what was held back of it, because a secret may have begun, is shown.
const IDLE: Duration = Duration::from_millis(300);
/// Bytes read from the command at once.
const READ: usize = 64 << 10;

/// How the command came to its end.
pub(super) struct Outcomes {
    /// It was ended because this runner was cut off.
    pub(super) cut_off: bool,
    pub(super) result: Outcome,
    pub(super) exit_code: Option<i32>,
    pub(super) message: Option<String>,
    pub(super) end: Option<CommandEnd>,
    pub(super) started: Option<Instant>,
    pub(super) phases: Phases,
}

impl Outcomes {
    pub(super) fn error(message: String) -> Self {
        Outcomes {
            cut_off: false,
            result: Outcome::Error,
            exit_code: None,
            message: Some(message),
            end: None,
            started: None,
            phases: Phases::default(),
        }
    }

    /// Ended before its command was started.
    pub(super) fn stopped(message: String) -> Self {
        Outcomes {
            result: Outcome::Cancellation,
            ..Outcomes::error(message)
        }
    }

    pub(super) fn ending(self, log_capped: bool) -> RecordedEnd {
        if self.cut_off {
            return RecordedEnd::Lost(LossCause::CutOff);
        }
        RecordedEnd::Result(RecordedResult {
            result: self.result,
            exit_code: self.exit_code,
            message: self.message,
            exited: BootMark::now(),
            processor: self.end.map(|end| end.processor),
            peak_memory: self.end.map(|end| end.peak_memory),
            bytes_read: self.end.map(|end| end.bytes_read),
            bytes_written: self.end.map(|end| end.bytes_written),
            log_capped,
            phases: self.phases,
        })
    }
}

/// A command that runs.
pub(super) struct RunningCommand<E> {
    pub(super) running: Running,
    pub(super) ending: E,
    pub(super) at: Instant,
    /// The socket at which it asks for identity tokens.
    pub(super) identity: Option<IdentitySocket>,
    /// What hides its secrets.
    pub(super) masker: Masker,
}

/// A command's output on its way to the log, with secrets hidden.
struct MaskedLog<'a> {
    spool: &'a Spool,
    masker: Masker,
}

impl MaskedLog<'_> {
    /// Writes what was read. Returns whether more may come.
    fn take(&mut self, read: io::Result<&[u8]>) -> io::Result<bool> {
        match read {
            Ok([]) | Err(_) => {
                // Where this fails, what it held back is missing, and the end says more.
                let _ = self.spool.write(&self.masker.finish());
                Ok(false)
            }
            Ok(bytes) => self.spool.write(&self.masker.feed(bytes)).map(|()| true),
        }
    }

    /// Shows what was held back, since nothing more has come for a while.
    async fn rest(&mut self) {
        tokio::time::sleep(IDLE).await;
        let _ = self.spool.write(&self.masker.rest());
    }
}

/// Reads the command's output until it and everything it started has ended; ends it when it must.
pub(super) async fn supervise(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    handle: &AttemptHandle,
    spool: &Spool,
    begun: RunningCommand<impl Future<Output = Option<CommandEnd>>>,
) -> Outcomes {
    let RunningCommand {
        running: Running {
            grip,
            mut output,
            folder,
        },
        ending: ended,
        at,
        masker,
        ..
    } = begun;
    let mut log = MaskedLog { spool, masker };
    let limit = Duration::from(assigned.time_limit_us);
    let deadline = tokio::time::Instant::from_std(at) + limit;
    let mut ending: Option<(Outcome, String)> = None;
    let mut kill_at: Option<tokio::time::Instant> = None;
    let mut buffer = vec![0; READ];
    let (mut open, mut broken) = (true, None);
    let (mut ended, mut end) = (std::pin::pin!(ended), None);
    let ask = |message: &str, over: bool| {
        let _ = spool.append_line(&format!("{message}; asking the command to end"));
        if !over {
            grip.ask();
        }
        tokio::time::Instant::now() + ASKED
    };
    let kill = |over: bool| {
        if !over {
            grip.kill();
        }
        if environment.keepers.mechanism() == Mechanism::Group {
            keeper::end_leftovers(&[assigned.attempt.to_string()]);
        }
    };
    let (mut over, mut cut_off, mut look) = (false, false, tokio::time::interval(LOOK));
    let mut exceeded = std::pin::pin!(exceeded(
        environment,
        &assigned.policy,
        grip,
        folder.as_ref().map(|folder| folder.path().to_owned()),
    ));
    while open || !over {
        tokio::select! {
            // By the clock that goes on while the machine sleeps, which timers do not.
            _ = look.tick(), if assigned.exclusive && !cut_off && !over => {
                if let Some(silence) = environment.cut_off() {
                    let message = cut_off_message(silence);
                    let _ = spool.append_line(&message);
                    cut_off = true;
                    kill(over);
                    ending.get_or_insert((Outcome::Error, message));
                }
            }
            read = async { spool.room().await; output.read(&mut buffer).await }, if open => {
                let bytes = read.map(|length| buffer.get(..length).unwrap_or_default());
                let taken = log.take(bytes);
                open = matches!(taken, Ok(true));
                broken = taken.err().map(|error| format!("the log cannot be written on {}: {error}", environment.host));
                if broken.is_some() { kill(over); }
            }
            () = log.rest(), if open && log.masker.holds() => {}
            told = &mut ended, if !over => (end, over) = (told, true),
            () = handle.stopped.notified() => {
                let message = handle.message.borrow().clone();
                if handle.stop.get() == Some(StopCause::Over) {
                    kill(over);
                } else if ending.is_none() {
                    kill_at = Some(ask(&message, over));
                }
                ending.get_or_insert((Outcome::Cancellation, message));
            }
            message = &mut exceeded, if !over && ending.is_none() => {
                let _ = spool.append_line(&format!("{message}; killing it"));
                kill(over);
                ending = Some((Outcome::Failure, message));
            }
            () = tokio::time::sleep_until(deadline), if ending.is_none() => {
                let message = format!("time limit of {} exceeded", spoken(limit));
                kill_at = Some(ask(&message, over));
                ending = Some((Outcome::Timeout, message));
            }
            () = tokio::time::sleep_until(kill_at.unwrap_or(deadline)), if kill_at.is_some() => {
                let _ = spool.append_line(&format!("it did not end within {}; killing it", spoken(ASKED)));
                kill(over);
                kill_at = None;
            }
        }
    }
    let (exit_code, (result, message)) =
        conclude(spool, folder, &assigned.policy.limits, broken, ending, end).await;
    Outcomes {
        cut_off,
        result,
        exit_code,
        message,
        end,
        started: Some(at),
        phases: Phases::default(),
    }
}

/// Why a job that holds seats is ended while the service is unreachable.
fn cut_off_message(silence: Duration) -> String {
    format!(
        "the service has been unreachable for {}, and this job holds seats that others may get soon; ending it",
        spoken(silence)
    )
}

/// What became of a command whose processes have all ended; its folder is removed.
async fn conclude(
    spool: &Spool,
    folder: Option<JobFolder>,
    limits: &JobLimits,
    broken: Option<String>,
    mut ending: Option<(Outcome, String)>,
    end: Option<CommandEnd>,
) -> (Option<i32>, (Outcome, Option<String>)) {
    let exit_code = end.and_then(|end| match end.status {
        ExitKind::Exited(code) => Some(code),
        ExitKind::Signalled(_) => None,
    });
    if let Some(folder) = folder {
        let failed = end.is_none_or(|end| end.status != ExitKind::Exited(0));
        if ending.is_none() && failed && folder.was_out_of_memory() {
            let limit = limits.memory.unwrap_or_default();
            let message = memory_limit_reached(limit);
            let _ = spool.append_line(&message);
            ending = Some((Outcome::Failure, message));
        }
        if ending.is_none() && failed && end.is_some_and(|end| end.disk_is_full) {
            let limit = limits.disk.unwrap_or_default();
            let message = format!("limit of {limit} of disk reached");
            let _ = spool.append_line(&message);
            ending = Some((Outcome::Failure, message));
        }
        if broken.is_some() {
            // A disk that is full has room again before the next job comes.
            folder.release().await;
        } else {
            // What waits for the report does not wait for the files.
            tokio::task::spawn_local(folder.release());
        }
    }
    (exit_code, result(broken, ending, end.map(|end| end.status)))
}

/// How often processes and memory are measured where the kernel does not limit them.
const MEASURED: Duration = Duration::from_secs(1);
/// How many times as often as the disk: reading a folder costs more.
const DISK_EVERY: u32 = 5;

/// Measures what a job uses where the kernel does not limit it. Returns, for people, which limit it has exceeded; never
/// where everything is limited by the kernel or by nothing.
async fn exceeded(
    environment: &RunnerEnvironment,
    policy: &JobPolicy,
    grip: ProcessGroup,
    folder: Option<PathBuf>,
) -> String {
    let limits = &policy.limits;
    let enforced = environment.abilities.enforced();
    let is_sized = environment.abilities.sizes_disk(policy);
    let memory = limits.memory.filter(|_| !enforced.memory);
    let processes = limits.processes.filter(|_| !enforced.processes);
    let disk = limits.disk.filter(|_| !is_sized).zip(folder);
    if memory.is_none() && processes.is_none() && disk.is_none() {
        return std::future::pending().await;
    }
    let mut ticks = tokio::time::interval(MEASURED);
    for turn in 0u32.. {
        ticks.tick().await;
        if let Some(root) = grip
            .first()
            .filter(|_| memory.is_some() || processes.is_some())
        {
            let used = usage::of_descendants(root);
            if let Some(limit) = memory.filter(|limit| used.memory > *limit) {
                return format!("limit of {limit} of memory exceeded: {}", used.memory);
            }
            if let Some(limit) = processes.filter(|limit| used.processes > *limit) {
                return format!("limit of {limit} processes exceeded: {}", used.processes);
            }
        }
        if let Some((limit, path)) = disk.clone().filter(|_| turn % DISK_EVERY == 0) {
            let measured = tokio::task::spawn_blocking(move || usage::of_folder(&path, limit));
            if let Some(used) = measured.await.ok().filter(|used| *used > limit) {
                return format!("limit of {limit} of disk exceeded: at least {used}");
            }
        }
    }
    std::future::pending().await
}

/// What becomes of the attempt: a log that cannot be written comes first, then what ended the command, then how it ended.
fn result(
    broken: Option<String>,
    ending: Option<(Outcome, String)>,
    end: Option<ExitKind>,
) -> (Outcome, Option<String>) {
    match (broken, ending, end) {
        (Some(message), ..) => (Outcome::Error, Some(message)),
        (None, Some((result, message)), _) => (result, Some(message)),
        (None, None, Some(ExitKind::Exited(0))) => (Outcome::Success, None),
        (None, None, Some(ExitKind::Exited(code))) => {
            (Outcome::Failure, Some(format!("exit code {code}")))
        }
        (None, None, Some(ExitKind::Signalled(signal))) => (
            Outcome::Failure,
            Some(format!("the command was ended by signal {signal}")),
        ),
        (None, None, None) => (
            Outcome::Error,
            Some("the command was ended from outside".to_owned()),
        ),
    }
}
