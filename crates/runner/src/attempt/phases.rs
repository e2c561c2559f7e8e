//! The parts of an attempt, as the programs that the runner puts before the job's own commands report them at the job's socket.
//!
//! A job can report what it likes about itself; it reaches nothing else.

use super::supervision::Outcomes;
use crate::error::Error;
use pennine_client::report_phase;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::phase::Phases;
use pennine_wire::runner_protocol::PhaseReport;
use std::cell::RefCell;
use std::io::Write;
use std::path::Path;
use std::time::Instant;

/// The most bytes of a message that is kept.
const MOST_MESSAGE: usize = 1000;
/// The most characters of a command that are shown when it begins.
const MOST_SHOWN: usize = 120;

/// What was reported of an attempt.
pub struct PhaseRecord {
    begun: Instant,
    /// How many commands the job has.
    commands: usize,
    phases: RefCell<Phases>,
    /// Why its files could not be had.
    no_source: RefCell<Option<String>>,
}

impl PhaseRecord {
    /// A record of an attempt that was started at an instant.
    pub fn new(begun: Instant, commands: usize) -> PhaseRecord {
        PhaseRecord {
            begun,
            commands,
            phases: RefCell::default(),
            no_source: RefCell::default(),
        }
    }

    /// Takes a report.
    pub fn note(&self, report: PhaseReport) {
        let at = self.begun.elapsed();
        match report {
            PhaseReport::SourceReady => {
                self.phases.borrow_mut().source_us.get_or_insert(at.into());
            }
            PhaseReport::SourceFailed { mut message } => {
                let mut end = message.len().min(MOST_MESSAGE);
                while !message.is_char_boundary(end) {
                    end -= 1;
                }
                message.truncate(end);
                self.no_source.replace(Some(message));
            }
            PhaseReport::Command { number } => {
                let mut phases = self.phases.borrow_mut();
                phases.begin_command(number, self.commands, at);
            }
        }
    }

    /// What became of the attempt, with what was reported. A job whose files could not be had has not failed by itself: that is an error.
    pub(super) fn conclude(&self, mut outcomes: Outcomes) -> Outcomes {
        outcomes.phases = self.phases.borrow().clone();
        if let Some(message) = self.no_source.borrow_mut().take()
            && outcomes.result == Outcome::Failure
            && outcomes.exit_code == Some(super::source::NO_SOURCE)
        {
            outcomes.result = Outcome::Error;
            outcomes.message = Some(message);
        }
        outcomes
    }
}

/// The shell's script of several commands: each is announced when it begins, by this program.
pub(super) fn announced(program: &str, commands: &[String]) -> String {
    let program = quoted(program);
    let count = commands.len();
    let parts = commands.iter().enumerate().map(|(i, command)| {
        let shown = quoted(&shown(command));
        let number = i + 1;
        format!("{program} command --number={number} --of={count} -- {shown} || :\n{command}")
    });
    parts.collect::<Vec<_>>().join("\n")
}

fn quoted(text: &str) -> String {
    shlex::try_quote(text).map_or_else(|_| "''".to_owned(), std::borrow::Cow::into_owned)
}

/// The first line of a command, cut.
fn shown(command: &str) -> String {
    let line = command.trim().lines().next().unwrap_or_default();
    let cut: String = line.chars().take(MOST_SHOWN).collect();
    match cut.len() == command.trim().len() {
        true => cut,
        false => format!("{cut} …"),
    }
}

/// Announces a command inside a job: in its log, and to its runner.
pub async fn announce(number: u32, of: u32, text: &str) -> Result<(), Error> {
    println!("pennine: command {number} of {of}: {text}");
    // Before the command's own output.
    let _ = std::io::stdout().flush();
    report(&PhaseReport::Command { number }).await;
    Ok(())
}

/// Reports to the runner, where the job has a socket. A report that does not arrive is missing from what is shown, and nothing else.
pub(super) async fn report(report: &PhaseReport) {
    if let Some(socket) = std::env::var_os(super::identity::SOCKET_VARIABLE) {
        let _ = report_phase(Path::new(&socket), report).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_command_is_announced_and_quoted() {
        let script = announced(
            "/opt/pennine runner",
            &["make 'x'".into(), "cd /\npwd".into()],
        );
        assert_eq!(
            script,
            "'/opt/pennine runner' command --number=1 --of=2 -- \"make 'x'\" || :\nmake 'x'\n\
             '/opt/pennine runner' command --number=2 --of=2 -- 'cd / …' || :\ncd /\npwd"
        );
    }

    #[test]
    fn a_job_without_its_files_ends_with_an_error() {
        let record = PhaseRecord::new(Instant::now(), 2);
        record.note(PhaseReport::SourceFailed {
            message: "gone ".repeat(1000),
        });
        let failed = |code| Outcomes {
            result: Outcome::Failure,
            exit_code: Some(code),
            ..Outcomes::error(String::new())
        };
        let ended = record.conclude(failed(super::super::source::NO_SOURCE));
        assert_eq!(ended.result, Outcome::Error);
        assert_eq!(
            ended.message.map(|message| message.len()),
            Some(MOST_MESSAGE)
        );
        record.note(PhaseReport::SourceFailed {
            message: "gone".into(),
        });
        assert_eq!(record.conclude(failed(1)).result, Outcome::Failure);
    }
}
