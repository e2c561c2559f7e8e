//! What one run does otherwise than its sheet says, as options.

use crate::error::Error;
use crate::view;
use clap::Args;
use pennine_core::dispatch::Band;
use pennine_core::sheet::{JobOverrides, RunOverrides, Sheet};
use pennine_core::time::{Micros, parse_length};
use std::collections::BTreeSet;
use std::str::FromStr;

#[derive(Args)]
#[command(next_help_heading = "RunOverrides for this run alone")]
pub struct OverrideArguments {
    /// A key of a job of the sheet: build.where="gcc >= 13"; keys: where, time_limit, give_up, band. May be given several times.
    #[arg(long = "set", value_name = "JOB.KEY=VALUE")]
    set: Vec<KeyOverride>,
    /// Run every job in this pool.
    #[arg(long)]
    pool: Option<String>,
    /// The priority of every job: urgent, normal or background.
    #[arg(long, value_parser = view::word::<Band>)]
    band: Option<Band>,
    /// Leave out a command of a job, counted from 1; the job may be left out if the sheet has only one.
    #[arg(long, value_name = "[JOB:]N")]
    skip_command: Vec<CommandNumber>,
    /// Begin with this command of a job, counted from 1.
    #[arg(long, value_name = "[JOB:]N")]
    from_command: Vec<CommandNumber>,
}

/// A key of a job, with its value.
#[derive(Clone, Debug)]
struct KeyOverride {
    job: String,
    key: Key,
}

#[derive(Clone, Debug)]
enum Key {
    Where(String),
    TimeLimit(Micros),
    GiveUp(Micros),
    Band(Band),
}

impl FromStr for KeyOverride {
    type Err = String;

    fn from_str(text: &str) -> Result<KeyOverride, String> {
        let form = "give it as JOB.KEY=VALUE, such as build.time_limit=2h";
        let (name, value) = text.split_once('=').ok_or(form)?;
        // A job's name may contain dots.
        let (job, key) = name.rsplit_once('.').ok_or(form)?;
        let length = || parse_length(value).map(Micros::from);
        let key = match key {
            "where" => Key::Where(value.to_owned()),
            "time_limit" => Key::TimeLimit(length()?),
            "give_up" => Key::GiveUp(length()?),
            "band" => Key::Band(view::word(value)?),
            other => {
                return Err(format!(
                    "{other:?} cannot be set for one run; keys that can: where, time_limit, give_up, band"
                ));
            }
        };
        Ok(KeyOverride {
            job: job.to_owned(),
            key,
        })
    }
}

/// The number of a command, and of which job.
#[derive(Clone, Debug)]
struct CommandNumber {
    job: Option<String>,
    number: u32,
}

impl FromStr for CommandNumber {
    type Err = String;

    fn from_str(text: &str) -> Result<CommandNumber, String> {
        let (job, number) = match text.rsplit_once(':') {
            Some((job, number)) => (Some(job.to_owned()), number),
            None => (None, text),
        };
        let number = number.parse().ok().filter(|number| *number > 0);
        let number = number.ok_or("give it as N or JOB:N, counted from 1")?;
        Ok(CommandNumber { job, number })
    }
}

impl OverrideArguments {
    /// The overrides of a run of this sheet.
    ///
    /// # Errors
    /// Where they do not fit the sheet.
    pub fn of(self, sheet: &Sheet) -> Result<RunOverrides, Error> {
        let mut overrides = RunOverrides {
            pool: self.pool,
            band: self.band,
            ..RunOverrides::default()
        };
        for KeyOverride { job, key } in self.set {
            let of_job = overrides.jobs.entry(job).or_default();
            match key {
                Key::Where(text) => of_job.requirement = Some(text),
                Key::TimeLimit(length) => of_job.time_limit_us = Some(length),
                Key::GiveUp(length) => of_job.give_up_us = Some(length),
                Key::Band(band) => of_job.band = Some(band),
            }
        }
        for skipped in self.skip_command {
            let number = skipped.number;
            let of_job = entry(&mut overrides, skipped, sheet)?;
            of_job.skip_commands.insert(number);
        }
        for from in self.from_command {
            let number = from.number;
            entry(&mut overrides, from, sheet)?.from_command = Some(number);
        }
        let fits = sheet.clone().overridden(&overrides);
        fits.map_err(|error| Error::Usage(error.to_string()))?;
        Ok(overrides)
    }
}

/// The overrides of the job that a number of a command is of.
fn entry<'a>(
    overrides: &'a mut RunOverrides,
    number: CommandNumber,
    sheet: &Sheet,
) -> Result<&'a mut JobOverrides, Error> {
    let names: BTreeSet<&str> = sheet.jobs.iter().map(|job| job.base.as_str()).collect();
    let job = match (number.job, names.first()) {
        (Some(job), _) => job,
        (None, Some(only)) if names.len() == 1 => (*only).to_owned(),
        (None, _) => {
            let names: Vec<&str> = names.into_iter().collect();
            return Err(Error::Usage(format!(
                "the sheet has several jobs ({}): name the one whose command it is, as JOB:{}",
                names.join(", "),
                number.number
            )));
        }
    };
    Ok(overrides.jobs.entry(job).or_default())
}
