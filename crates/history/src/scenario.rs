//! The scenario file.

use crate::Error;
use pennine_core::dispatch::{Band, Reason, SeatNeeds};
use pennine_core::fact::Facts;
use pennine_core::time::Moment;
use serde::Deserialize;
use std::time::Duration;

/// A made-up yard's past.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    pub seed: u64,
    /// How many days back it goes.
    pub days: u32,
    #[serde(rename = "runner")]
    pub runners: Vec<Machine>,
    pub work: Vec<Work>,
    #[serde(default)]
    pub paused: Vec<Paused>,
    #[serde(default)]
    pub left: Vec<Left>,
}

/// A job that waits still when the history ends.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Left {
    pub project: String,
    pub title: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub command: Vec<String>,
    #[serde(default)]
    pub band: Band,
    #[serde(default)]
    pub seats: SeatNeeds,
    /// How long it has waited by then.
    pub minutes: u32,
    /// What it waited for.
    pub reason: Reason,
}

impl Left {
    /// When it was submitted.
    pub fn ready(&self, until: Moment) -> Moment {
        until - Duration::from_secs(60) * self.minutes
    }
}

/// A machine of that time.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Machine {
    pub name: String,
    pub pool: String,
    pub slots: u32,
    #[serde(default)]
    pub labels: Vec<String>,
    pub facts: Facts,
    /// When it was there on working days; always when not given.
    pub hours: Option<[TimeOfDay; 2]>,
}

/// One kind of job of one project.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    pub project: String,
    pub title: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub command: Vec<String>,
    #[serde(default)]
    pub band: Band,
    #[serde(default)]
    pub seats: SeatNeeds,
    /// Jobs on a working day.
    #[serde(default)]
    pub workday: f64,
    /// Jobs on another day.
    #[serde(default)]
    pub weekend: f64,
    pub nightly: Option<Nightly>,
    /// The median time that one runs.
    pub minutes: f64,
    /// Two thirds lie within this factor of it.
    pub spread: f64,
    /// The share that fails.
    pub fails: f64,
}

/// A batch every night.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Nightly {
    pub at: TimeOfDay,
    pub jobs: u32,
}

/// A pool was paused for some hours.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Paused {
    pub pool: String,
    /// On the last working day at least this many days back.
    pub days_back: u32,
    pub hours: [TimeOfDay; 2],
}

/// A time of day, UTC, `HH:MM`.
#[derive(Clone, Copy, Deserialize)]
#[serde(try_from = "String")]
pub struct TimeOfDay(pub Duration);

impl TryFrom<String> for TimeOfDay {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        let time: jiff::civil::Time = text
            .parse()
            .map_err(|_| format!("{text:?} is no time of day: HH:MM"))?;
        let minutes = i64::from(time.hour()) * 60 + i64::from(time.minute());
        Ok(TimeOfDay(Duration::from_secs(minutes.unsigned_abs() * 60)))
    }
}

/// A day, UTC.
#[derive(Clone, Copy)]
pub struct Day {
    pub begins: Moment,
    pub workday: bool,
}

impl Day {
    /// The day on which a moment lies.
    pub fn of(at: Moment) -> Result<Day, Error> {
        let zoned = jiff::Timestamp::from_microsecond(at.micros())
            .map_err(|e| Error::Scenario(e.to_string()))?
            .to_zoned(jiff::tz::TimeZone::UTC);
        let begins = zoned
            .start_of_day()
            .map_err(|e| Error::Scenario(e.to_string()))?;
        Ok(Day {
            begins: Moment::from_micros(begins.timestamp().as_microsecond()),
            workday: zoned.weekday().to_monday_one_offset() <= 5,
        })
    }

    /// The days from one moment to another, both included.
    pub fn between(from: Moment, until: Moment) -> Result<Vec<Day>, Error> {
        let mut days = Vec::new();
        let mut at = Day::of(from)?.begins;
        while at <= until {
            days.push(Day::of(at)?);
            at = at + super::DAY;
        }
        Ok(days)
    }
}
