//! The parts of an attempt, as the programs that the runner puts before the job's own commands report them at the job's socket.
//!
//! A job can report what it likes about itself; it reaches nothing else.

use pennine_core::phase::Phases;
use pennine_wire::runner_protocol::PhaseReport;
use std::cell::RefCell;
use std::time::Instant;

/// The most bytes of a message that is kept.
const MOST_MESSAGE: usize = 1000;

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

    /// What was reported so far.
    pub fn phases(&self) -> Phases {
        self.phases.borrow().clone()
    }

    /// Why the job's files could not be had, where that was reported.
    pub fn no_source(&self) -> Option<String> {
        self.no_source.borrow().clone()
    }
}
