//! The parts of an attempt while its command runs: its files are fetched, then its commands run one after another.

use crate::time::Micros;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// The most commands whose beginnings are kept.
pub const MOST_COMMANDS: usize = 1000;

/// When the parts of an attempt began, by its runner's clock since the attempt was started.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Phases {
    /// How long it took to fetch the files with which the job begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source_us: Option<Micros>,
    /// When each of the job's commands began, in their order, as far as it came.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands_us: Vec<Micros>,
}

impl Phases {
    /// Whether nothing is known.
    pub fn is_empty(&self) -> bool {
        *self == Phases::default()
    }

    /// Notes that a command has begun, counted from 1. One that is out of turn, or that the job does not have, is ignored.
    pub fn begin_command(&mut self, number: u32, of: usize, at: Duration) {
        let next = self.commands_us.len() + 1;
        if usize::try_from(number) == Ok(next) && next <= of.min(MOST_COMMANDS) {
            self.commands_us.push(at.into());
        }
    }

    /// What a runner reports, made safe: at most [`MOST_COMMANDS`], each after the one before it.
    pub fn checked(mut self) -> Phases {
        self.commands_us.truncate(MOST_COMMANDS);
        if !self.commands_us.is_sorted() {
            self.commands_us.clear();
        }
        self
    }

    /// How long each command ran, where the attempt ran for this long in all.
    pub fn command_lengths(&self, ran: Micros) -> Vec<Micros> {
        let ends = self.commands_us.iter().skip(1).copied().chain([ran]);
        let parts = self.commands_us.iter().zip(ends);
        parts
            .map(|(from, until)| Micros(until.0.saturating_sub(from.0)))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_begin_in_their_order_and_only_those_that_there_are() {
        let mut phases = Phases::default();
        for (number, at) in [(2, 1), (1, 2), (1, 3), (2, 4), (4, 5), (3, 6), (4, 7)] {
            phases.begin_command(number, 3, Duration::from_micros(at));
        }
        assert_eq!(phases.commands_us, [Micros(2), Micros(4), Micros(6)]);
        assert_eq!(
            phases.command_lengths(Micros(10)),
            [Micros(2), Micros(2), Micros(4)]
        );
        assert_eq!(phases.command_lengths(Micros(5))[2], Micros(0));
    }

    #[test]
    fn a_report_that_cannot_be_true_is_made_safe() {
        let of = |commands: Vec<u64>| Phases {
            source_us: None,
            commands_us: commands.into_iter().map(Micros).collect(),
        };
        assert!(of(vec![2, 1]).checked().is_empty());
        assert_eq!(of(vec![1; 5000]).checked().commands_us.len(), MOST_COMMANDS);
    }
}
