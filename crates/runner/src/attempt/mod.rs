//! One attempt, from its assignment to its accepted report.
//!
//! ```text
//!   run ── spawn (the command, in surroundings of its own)
//!     |── secrets      (their values, asked for when it starts)
//!     |── identity     (the socket at which it asks for identity tokens)
//!     |── source       (the files with which it begins)
//!     |── announcement (of each of its commands)
//!     |── phases       (its parts, as they are reported at the socket)
//!     |── context      (its environment and the head of its log)
//!     |── supervision  (its output and its end)
//!     `── report       (its result, to the service)
//! ```

pub mod announcement;
mod context;
pub mod identity;
pub mod phases;
mod secrets;
pub mod source;
mod supervision;

use crate::backoff::Backoff;
use crate::environment::RunnerEnvironment;
use crate::handle::AttemptHandle;
use crate::journal::{Journal, RecordedEnd};
use crate::report;
use crate::share::HostLimit;
use crate::spool::Spool;
use crate::system::clock::BootMark;
use crate::system::hardware;
use crate::system::isolation::folder::JobFolder;
use crate::system::keeper::{CommandEnd, ExitKind, Order, StartError};
use context::{heading, variables};
use identity::IdentitySocket;
use pennine_core::id::AttemptId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Assigned, AttemptPhase, LossCause, StartedReport, StopCause};
use phases::PhaseRecord;
use secrets::{JobSecrets, SecretsError};
use std::cell::RefCell;
use std::io;
use std::rc::Rc;
use std::time::{Duration, Instant};
use supervision::{Outcomes, RunningCommand, supervise};

/// Runs an attempt and reports it. Returns when the service has the report, or wants none.
pub async fn run(
    environment: Rc<RunnerEnvironment>,
    assigned: Rc<Assigned>,
    handle: Rc<AttemptHandle>,
) {
    let attempt = assigned.attempt;
    let mut journal = Journal {
        lease: assigned.lease,
        job: assigned.job.clone(),
        started: None,
        end: None,
    };
    let _place = match environment.limit.as_ref().map(HostLimit::take) {
        None => None,
        Some(Ok(Some(place))) => Some(place),
        Some(taken) => {
            if let Err(error) = taken {
                tracing::error!(%error, "the limit that this host's runners share cannot be read");
            }
            tracing::info!(
                job = assigned.job,
                "not started: this host is at its limit of jobs"
            );
            journal.end = Some(RecordedEnd::Lost(LossCause::HostFull));
            return give_up(&environment, attempt, &handle, &journal, None).await;
        }
    };
    wait_for_room(&environment).await;
    let spool = match Spool::create(&environment.home.spool(attempt), assigned.log_cap.0) {
        Ok(spool) => Rc::new(spool),
        Err(error) => {
            let message = format!("the log cannot be written on {}: {error}", environment.host);
            tracing::error!(job = assigned.job, message);
            journal.end = Some(Outcomes::error(message).ending(false));
            return give_up(&environment, attempt, &handle, &journal, None).await;
        }
    };
    let begun = spawn(&environment, &assigned, &handle, &spool).await;
    if let Err(NotStarted::Unfit(why)) = &begun {
        tracing::error!(job = assigned.job, "not started: {why}");
        environment.note_failure(assigned.policy.isolation, why);
        let _ = spool.append_line(&format!("not started on {}: {why}", environment.host));
        spool.close();
        journal.end = Some(RecordedEnd::Lost(LossCause::NotIsolated));
        return give_up(&environment, attempt, &handle, &journal, Some(&spool)).await;
    }
    if let Ok(begun) = &begun {
        journal.started = Some(BootMark::of(begun.at));
        report::write_journal(&environment, attempt, &journal);
    }
    let sender = {
        let (environment, assigned, spool, handle) = (
            environment.clone(),
            assigned.clone(),
            spool.clone(),
            handle.clone(),
        );
        let started = begun.as_ref().ok().map(|begun| begun.at);
        tokio::task::spawn_local(async move {
            // The start is reported first, because people wait for it.
            if let Some(at) = started {
                tell_started(&environment, &assigned, &handle, at).await;
            }
            handle.begun.notify_one();
            // Then the next keeper is started, while no job waits for it.
            environment.keepers.prepare(environment.slots());
            spool
                .send(
                    &environment.client,
                    assigned.attempt,
                    assigned.lease,
                    &environment.log_chunk,
                )
                .await;
        })
    };
    let outcomes = match begun {
        Ok(mut begun) => {
            // Until the command has ended.
            let identity = begun.identity.take();
            let phases = Rc::new(PhaseRecord::new(begun.at, assigned.commands.len()));
            let _identity = identity.map(|socket| socket.serve(&environment, &assigned, &phases));
            handle.phase.set(AttemptPhase::Executing);
            let ended = supervise(&environment, &assigned, &handle, &spool, begun).await;
            concluded(ended, &phases)
        }
        Err(NotStarted::Stopped) => Outcomes::stopped(handle.message.borrow().clone()),
        Err(NotStarted::Broken(message) | NotStarted::Unfit(message)) => Outcomes::error(message),
    };
    handle.exit(Instant::now());
    tracing::info!(job = assigned.job, result = %outcomes.result, "ended");
    if handle.stop.get() == Some(StopCause::Over) {
        // The service does not want its end: another life of this program must not report it either.
        spool.abandon();
    } else {
        for line in closing(&outcomes) {
            let _ = spool.append_line(&line);
        }
        journal.end = Some(outcomes.ending(spool.capped()));
        report::write_journal(&environment, attempt, &journal);
    }
    // One sends at a time: what is left is sent with the end.
    spool.hand_over();
    let _ = sender.await;
    spool.close();
    report::deliver(&environment, attempt, &journal, &handle, Some(&spool)).await;
}

/// What became of an attempt, with what was reported of its parts. A job whose files could not be had has not failed by itself: that is
/// an error.
fn concluded(mut outcomes: Outcomes, reported: &PhaseRecord) -> Outcomes {
    outcomes.phases = reported.phases();
    if let Some(message) = reported.no_source()
        && outcomes.result == Outcome::Failure
        && outcomes.exit_code == Some(source::NO_SOURCE)
    {
        outcomes.result = Outcome::Error;
        outcomes.message = Some(message);
    }
    outcomes
}

/// With less free than this, or than this part of a small disk, a job before this one may be about to leave its space.
const ROOM: u64 = 4 << 20;
const PART: u64 = 8;
/// How long that is waited for.
const ROOM_PATIENCE: Duration = Duration::from_secs(5);

/// Waits a moment where the disk is full: what the job before has left is removed once the service has its end, and this job
/// may have been assigned a little sooner.
async fn wait_for_room(environment: &RunnerEnvironment) {
    let begun = Instant::now();
    let is_full = || {
        let disk = hardware::disk_of(environment.home.path());
        disk.is_some_and(|disk| disk.free.0 < ROOM.min(disk.size.0 / PART))
    };
    while is_full() && begun.elapsed() < ROOM_PATIENCE {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Reports an attempt whose command was never started.
async fn give_up(
    environment: &RunnerEnvironment,
    attempt: AttemptId,
    handle: &AttemptHandle,
    journal: &Journal,
    spool: Option<&Spool>,
) {
    handle.exit(Instant::now());
    handle.begun.notify_one();
    report::deliver(environment, attempt, journal, handle, spool).await;
}

/// The lines with which the log ends.
fn closing(outcomes: &Outcomes) -> Vec<String> {
    // The message of a normal end repeats the next line.
    let plain = matches!(outcomes.result, Outcome::Success | Outcome::Failure);
    let mut lines: Vec<String> = outcomes
        .message
        .iter()
        .filter(|_| !plain)
        .cloned()
        .collect();
    if let (Some(end), Some(started)) = (outcomes.end, outcomes.started) {
        let how = match end.status {
            ExitKind::Exited(code) => format!("exit code {code}"),
            ExitKind::Signalled(signal) => format!("ended by signal {signal}"),
        };
        lines.push(format!(
            "{how} after {}; processor time {}, largest process {}",
            spoken(started.elapsed()),
            spoken(end.processor.into()),
            end.peak_memory
        ));
    }
    lines
}

/// Why a command was not started, for people.
enum NotStarted {
    /// It was ended before.
    Stopped,
    /// This machine cannot keep it as its pool asks.
    Unfit(String),
    /// Anything else.
    Broken(String),
}

/// Starts the command in a folder of its own.
async fn spawn(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    handle: &AttemptHandle,
    spool: &Spool,
) -> Result<RunningCommand<impl Future<Output = Option<CommandEnd>> + use<>>, NotStarted> {
    let broken =
        |what: &str, e: &dyn std::fmt::Display| format!("{what} on {}: {e}", environment.host);
    let level = assigned.policy.isolation;
    environment.gives(level).map_err(NotStarted::Unfit)?;
    if !assigned.trust.is_trusted() && !environment.single_use {
        let message =
            "not started: the job is untrusted, and this runner takes further jobs after it";
        return Err(NotStarted::Broken(message.to_owned()));
    }
    let command = source::launched(assigned);
    let Some((program, arguments)) = command.split_first() else {
        return Err(NotStarted::Broken("the job has no command".to_owned()));
    };
    let secrets = JobSecrets::fetch(environment, assigned, handle).await;
    let secrets = secrets.map_err(|refused| match refused {
        SecretsError::Stopped => NotStarted::Stopped,
        SecretsError::Refused(message) => NotStarted::Broken(message),
    })?;
    let path = environment.path();
    let identity = RefCell::new(None);
    let order = |folder: Option<&JobFolder>| {
        let bound = folder.map(IdentitySocket::bind).transpose();
        identity.replace(bound.unwrap_or_else(|error| {
            tracing::warn!(%error, job = assigned.job, "the job gets no identity tokens: its socket cannot be made");
            None
        }));
        let secrets_folder = JobSecrets::folder(assigned, folder);
        let given = secrets.variables(assigned, &secrets_folder);
        Order {
            program: program.clone(),
            arguments: arguments.to_vec(),
            variables: variables(environment, assigned, folder, given),
            folder: folder.map_or_else(|| "/".into(), JobFolder::workspace),
            secret_files: secrets.files(assigned),
            secrets_folder,
        }
    };
    let started = environment.keepers.start(assigned.policy, &order).await;
    let folder = started
        .as_ref()
        .ok()
        .and_then(|(running, _)| running.folder.as_ref());
    let heading = heading(environment, assigned, folder);
    let heading: String = heading
        .iter()
        .map(|line| format!("pennine: {line}\n"))
        .collect();
    let written = spool.write(heading.as_bytes());
    let (running, ending) =
            started.map_err(|refused| {
            NotStarted::Broken(match refused {
                StartError::Command(error) => match error.kind() {
                    io::ErrorKind::NotFound => {
                        format!("the command {program:?} does not exist on {}", environment.host)
                    }
                    // The system says so too of a command that is nowhere, when a folder in PATH may not be searched.
                    io::ErrorKind::PermissionDenied if nowhere(program, &path) => {
                        format!(
                            "the command {program:?} does not exist on {}, or is in a folder of PATH that {} may not search",
                            environment.host, environment.user
                        )
                    }
                    io::ErrorKind::PermissionDenied => {
                        format!("the command {program:?} may not be run on {}", environment.host)
                    }
                    _ => format!(
                        "the command {program:?} cannot be started on {}: {error}",
                        environment.host
                    ),
                },
                refused @ StartError::Keeper(_) => broken("the job cannot be started", &refused),
                StartError::Unfit(why) => return NotStarted::Unfit(why),
            })
            })?;
    let at = Instant::now();
    if let Err(error) = written {
        running.grip.kill();
        // It has run for a moment, and may have filled the disk itself.
        ending.await;
        if let Some(folder) = running.folder {
            folder.release().await;
        }
        return Err(NotStarted::Broken(broken(
            "the log cannot be written",
            &error,
        )));
    }
    Ok(RunningCommand {
        running,
        ending,
        at,
        identity: identity.take(),
        masker: secrets.masker(),
    })
}

/// Whether a command without a folder is in none of the folders that can be looked into.
fn nowhere(program: &str, path: &str) -> bool {
    !program.contains('/')
        && std::env::split_paths(path).all(|folder| !folder.join(program).exists())
}

/// Tells that the command was started, until the service knows.
async fn tell_started(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    handle: &AttemptHandle,
    at: Instant,
) {
    let mut pace = Backoff::default();
    loop {
        let started = StartedReport {
            session: environment.session,
            lease: assigned.lease,
            ago_us: at.elapsed().into(),
        };
        match environment.client.started(assigned.attempt, &started).await {
            Ok(()) => return,
            Err(error)
                if error
                    .problem()
                    .is_some_and(|problem| problem.word() == "stale-lease") =>
            {
                handle.stop(StopCause::Over, "the attempt has ended for the service");
                return;
            }
            Err(error) if error.passes() => pace.pause().await,
            Err(error) => {
                tracing::warn!(%error, job = assigned.job, "the start was refused");
                return;
            }
        }
        // Once the command has ended, its end tells when it began.
        if handle.phase.get() == AttemptPhase::Finalizing {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_wire::runner_protocol::PhaseReport;

    #[test]
    fn a_job_without_its_files_ends_with_an_error() {
        let record = PhaseRecord::new(Instant::now(), 2);
        let failed = |code| Outcomes {
            result: Outcome::Failure,
            exit_code: Some(code),
            ..Outcomes::error(String::new())
        };
        let ended = concluded(failed(source::NO_SOURCE), &record);
        assert_eq!(ended.result, Outcome::Failure, "a job may end so itself");
        record.note(PhaseReport::SourceFailed {
            message: "gone ".repeat(1000),
        });
        assert_eq!(concluded(failed(1), &record).result, Outcome::Failure);
        let ended = concluded(failed(source::NO_SOURCE), &record);
        assert_eq!(ended.result, Outcome::Error);
        assert_eq!(ended.message.map(|message| message.len()), Some(1000));
    }
}
