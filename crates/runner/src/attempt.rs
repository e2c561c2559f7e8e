//! One attempt, from its assignment to its accepted report.

use crate::backoff::Backoff;
use crate::environment::RunnerEnvironment;
use crate::handle::AttemptHandle;
use crate::journal::{Journal, RecordedEnd, RecordedResult};
use crate::report;
use crate::share::HostLimit;
use crate::spool::Spool;
use crate::system::clock::BootMark;
use crate::system::keeper::{
    self, CommandEnd, ExitKind, Isolation, Order, ProcessGroup, Running, StartError,
};
use pennine_core::fact::Subject;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::requirement::Requirement;
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Assigned, AttemptPhase, LossCause, StartedReport, StopCause};
use std::collections::BTreeMap;
use std::io;
use std::rc::Rc;
use std::time::{Duration, Instant};
use tokio::io::AsyncReadExt;
use tokio::net::unix::pipe::Receiver;

/// How often it is looked at whether this runner is cut off.
const LOOK: Duration = Duration::from_secs(1);
/// How long a command that was asked to end may take before it is ended.
const ASKED: Duration = Duration::from_secs(10);
/// Bytes read from the command at once.
const READ: usize = 64 << 10;

/// How the command came to its end.
struct Outcomes {
    /// It was ended because this runner was cut off.
    cut_off: bool,
    result: Outcome,
    exit_code: Option<i32>,
    message: Option<String>,
    end: Option<CommandEnd>,
    started: Option<Instant>,
}

impl Outcomes {
    fn error(message: String) -> Self {
        Outcomes {
            cut_off: false,
            result: Outcome::Error,
            exit_code: None,
            message: Some(message),
            end: None,
            started: None,
        }
    }

    fn ending(self, log_capped: bool) -> RecordedEnd {
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
            log_capped,
        })
    }
}

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
            handle.exit(Instant::now());
            handle.begun.notify_one();
            journal.end = Some(RecordedEnd::Lost(LossCause::HostFull));
            report::deliver(&environment, attempt, &journal, &handle, None).await;
            return;
        }
    };
    let spool = match Spool::create(&environment.home.spool(attempt), assigned.log_cap.0) {
        Ok(spool) => Rc::new(spool),
        Err(error) => {
            let message = format!("the log cannot be written on {}: {error}", environment.host);
            tracing::error!(job = assigned.job, message);
            handle.exit(Instant::now());
            journal.end = Some(Outcomes::error(message).ending(false));
            report::deliver(&environment, attempt, &journal, &handle, None).await;
            return;
        }
    };
    let begun = spawn(&environment, &assigned, &spool).await;
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
        Ok(begun) => {
            handle.phase.set(AttemptPhase::Executing);
            supervise(&environment, &assigned, &handle, &spool, begun).await
        }
        Err(message) => Outcomes::error(message),
    };
    handle.exit(Instant::now());
    if handle.stop.get() == Some(StopCause::Over) {
        spool.abandon();
    }
    for line in closing(&outcomes) {
        let _ = spool.append_line(&line);
    }
    tracing::info!(job = assigned.job, result = %outcomes.result, "ended");
    journal.end = Some(outcomes.ending(spool.capped()));
    report::write_journal(&environment, attempt, &journal);
    // One sends at a time: what is left is sent with the end.
    spool.hand_over();
    let _ = sender.await;
    spool.close();
    report::deliver(&environment, attempt, &journal, &handle, Some(&spool)).await;
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

/// A command that runs.
struct RunningCommand<E> {
    grip: ProcessGroup,
    output: Receiver,
    ending: E,
    at: Instant,
}

/// Makes the workspace and starts the command. The error is for people.
async fn spawn(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    spool: &Spool,
) -> Result<RunningCommand<impl Future<Output = Option<CommandEnd>> + use<>>, String> {
    let folder = environment.home.workspace(assigned.attempt);
    let broken =
        |what: &str, e: &dyn std::fmt::Display| format!("{what} on {}: {e}", environment.host);
    std::fs::create_dir_all(&folder).map_err(|e| broken("the workspace cannot be made", &e))?;
    let heading = heading(environment, assigned, &folder).map(|line| format!("pennine: {line}\n"));
    spool
        .write(heading.concat().as_bytes())
        .map_err(|e| broken("the log cannot be written", &e))?;
    let Some((program, arguments)) = assigned.command.split_first() else {
        return Err("the job has no command".to_owned());
    };
    let variables = variables(environment, assigned, &folder);
    let path = variables.get("PATH").cloned().unwrap_or_default();
    let order = Order {
        program: program.clone(),
        arguments: arguments.to_vec(),
        variables,
        folder,
    };
    let (Running { grip, output }, ending) =
        environment
            .keepers
            .start(&order)
            .await
            .map_err(|refused| match refused {
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
            })?;
    Ok(RunningCommand {
        grip,
        output,
        ending,
        at: Instant::now(),
    })
}

/// Whether a command without a folder is in none of the folders that can be looked into.
fn nowhere(program: &str, path: &str) -> bool {
    !program.contains('/')
        && std::env::split_paths(path).all(|folder| !folder.join(program).exists())
}

/// The command's whole environment.
fn variables(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    folder: &std::path::Path,
) -> BTreeMap<String, String> {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/".to_owned());
    let own = [
        ("PATH", environment.path()),
        ("HOME", home),
        ("USER", environment.user.clone()),
        ("LANG", "C.UTF-8".to_owned()),
        ("CI", "true".to_owned()),
        ("PENNINE_JOB", assigned.job.clone()),
        ("PENNINE_PROJECT", assigned.project.clone()),
        ("PENNINE_POOL", assigned.pool.clone()),
        ("PENNINE_RUNNER", assigned.runner.clone()),
        ("PENNINE_ATTEMPT_NUMBER", assigned.number.to_string()),
        ("PENNINE_WORKSPACE", folder.display().to_string()),
    ];
    let mut variables: BTreeMap<String, String> = own
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value))
        .collect();
    variables.extend(environment.own.borrow().variables.clone());
    variables.extend(assigned.variables.clone());
    variables.insert(keeper::MARKER.to_owned(), assigned.attempt.to_string());
    variables
}

/// The first lines of the log: where the job runs, so that jobs need no commands to print it.
fn heading(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    folder: &std::path::Path,
) -> [String; 5] {
    let own = environment.own.borrow();
    let labels = own.labels.iter().chain(&assigned.pool_labels);
    let mut facts = environment.facts.borrow().clone();
    facts.extend(own.facts.clone());
    let subject = Subject::new(
        &assigned.runner,
        &assigned.pool,
        labels.map(String::as_str),
        &facts,
    );
    let clauses = match assigned.requirement.parse::<Requirement>() {
        Ok(requirement) if requirement.is_any() => "no requirement".to_owned(),
        Ok(requirement) if requirement.satisfied_by(&subject) => {
            format!("satisfied here: {requirement}")
        }
        _ => format!("requirement: {}", assigned.requirement),
    };
    [
        format!(
            "{} \"{}\" of {}, attempt {}",
            assigned.job, assigned.title, assigned.project, assigned.number
        ),
        format!(
            "runner {} in the pool {}, on {} as {}, pennine-runner {}",
            assigned.runner,
            assigned.pool,
            environment.host,
            environment.user,
            env!("CARGO_PKG_VERSION")
        ),
        format!(
            "in {}; {}",
            folder.display(),
            environment.keepers.isolation().describe()
        ),
        clauses,
        format!("$ {}", shown(&assigned.command)),
    ]
}

/// A command as one would type it into a shell.
fn shown(command: &[String]) -> String {
    let words = command.iter().map(String::as_str);
    // Only a NUL could not be quoted, and that is allowed here: the text is read, not run.
    let quoted = shlex::Quoter::new().allow_nul(true).join(words.clone());
    quoted.unwrap_or_else(|_| words.collect::<Vec<_>>().join(" "))
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

/// Reads the command's output until it and everything it started has ended; ends it when it must.
async fn supervise(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    handle: &AttemptHandle,
    spool: &Spool,
    begun: RunningCommand<impl Future<Output = Option<CommandEnd>>>,
) -> Outcomes {
    let RunningCommand {
        grip,
        mut output,
        ending: ended,
        at,
    } = begun;
    let limit = Duration::from(assigned.time_limit_us);
    let mut ending: Option<(Outcome, String)> = None;
    let mut kill_at: Option<tokio::time::Instant> = None;
    let mut buffer = vec![0; READ];
    let deadline = tokio::time::Instant::from_std(at) + limit;
    let mut open = true;
    let mut broken = None;
    let mut ended = std::pin::pin!(ended);
    let mut end = None;
    let ask = |over: bool| {
        if !over {
            grip.ask();
        }
    };
    let kill = |over: bool| {
        if !over {
            grip.kill();
        }
        if environment.keepers.isolation() == Isolation::Group {
            keeper::end_leftovers(&[assigned.attempt.to_string()]);
        }
    };
    let mut over = false;
    let mut cut_off = false;
    let mut look = tokio::time::interval(LOOK);
    while open || !over {
        tokio::select! {
            // By the clock that goes on while the machine sleeps, which timers do not.
            _ = look.tick(), if assigned.exclusive && !cut_off && !over => {
                if let Some(silence) = environment.cut_off() {
                    let message = format!(
                        "the service has been unreachable for {}, and this job holds seats that others may get soon; ending it",
                        spoken(silence)
                    );
                    let _ = spool.append_line(&message);
                    cut_off = true;
                    kill(over);
                    ending.get_or_insert((Outcome::Error, message));
                }
            }
            read = async { spool.room().await; output.read(&mut buffer).await }, if open => match read {
                Ok(0) | Err(_) => open = false,
                Ok(length) => {
                    if let Err(error) = spool.write(buffer.get(..length).unwrap_or_default()) {
                        broken = Some(format!("the log cannot be written on {}: {error}", environment.host));
                        kill(over);
                        open = false;
                    }
                }
            },
            told = &mut ended, if !over => (end, over) = (told, true),
            () = handle.stopped.notified() => {
                let message = handle.message.borrow().clone();
                if handle.stop.get() == Some(StopCause::Over) {
                    kill(over);
                } else if ending.is_none() {
                    let _ = spool.append_line(&format!("{message}; asking the command to end"));
                    ask(over);
                    kill_at = Some(tokio::time::Instant::now() + ASKED);
                }
                ending.get_or_insert((Outcome::Cancellation, message));
            }
            () = tokio::time::sleep_until(deadline), if ending.is_none() => {
                let message = format!("time limit of {} exceeded", spoken(limit));
                let _ = spool.append_line(&format!("{message}; asking the command to end"));
                ask(over);
                kill_at = Some(tokio::time::Instant::now() + ASKED);
                ending = Some((Outcome::Timeout, message));
            }
            () = tokio::time::sleep_until(kill_at.unwrap_or(deadline)), if kill_at.is_some() => {
                let _ = spool.append_line(&format!("it did not end within {}; killing it", spoken(ASKED)));
                kill(over);
                kill_at = None;
            }
        }
    }
    let exit_code = end.and_then(|end| match end.status {
        ExitKind::Exited(code) => Some(code),
        ExitKind::Signalled(_) => None,
    });
    let (result, message) = result(broken, ending, end.map(|end| end.status));
    Outcomes {
        cut_off,
        result,
        exit_code,
        message,
        end,
        started: Some(at),
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_is_shown_as_one_would_type_it() {
        let command = ["make", "-j2", "CFLAGS=-O2 -g", "it's", ""].map(str::to_owned);
        assert_eq!(shown(&command), "make -j2 'CFLAGS=-O2 -g' \"it's\" ''");
    }
}
