//! A pool's policy on machines.

use super::Money;
use crate::dispatch::Price;
use crate::fact::Facts;
use crate::time::{Micros, Moment};
use jiff::civil::{Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use utoipa::ToSchema;

/// How a pool gets machines: from whom, what kind, how many.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Supply {
    /// The supplier's name.
    pub supplier: String,
    /// What the machines are made from, as the supplier understands it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub image: String,
    /// The size of its machines, as the supplier names it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub size: String,
    /// Supplier-specific settings.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
    /// The fewest machines, not counting used-up ones.
    pub floor: u32,
    /// Never more machines than this, whatever state they are in.
    pub ceiling: u32,
    /// Machines kept idle beyond demand.
    pub spare: u32,
    /// How long a machine that is not wanted is kept idle.
    pub dwell_us: Micros,
    /// Whether a machine takes one job and is replaced.
    pub single_use: bool,
    /// How many jobs a machine takes at once; 1 for single-use ones.
    pub slots: u32,
    /// What an hour of a machine costs, where it is another than the supplier says: millionths of the currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub price: Option<Price>,
    /// What its machines may cost.
    #[serde(skip_serializing_if = "Budget::is_none")]
    pub budget: Budget,
    /// Floors and spares by the time of week, over the ones above.
    #[serde(skip_serializing_if = "Week::is_empty")]
    pub week: Week,
    /// What its machines are, where it is not to be found out with the first one.
    #[serde(skip_serializing_if = "Facts::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, crate::fact::FactValue>)]
    pub facts: Facts,
}

impl Default for Supply {
    fn default() -> Self {
        Supply {
            supplier: String::new(),
            image: String::new(),
            size: String::new(),
            settings: BTreeMap::new(),
            floor: 0,
            ceiling: 1,
            spare: 0,
            dwell_us: Micros::from(Duration::from_secs(300)),
            single_use: false,
            slots: 1,
            price: None,
            budget: Budget::default(),
            week: Week::default(),
            facts: Facts::new(),
        }
    }
}

/// What a supplier can do, as it says itself.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Offer {
    /// The most machines that it makes for this installation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<u32>,
    /// How long its machines take to come up, at most, as far as it knows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub boot_limit_us: Option<Micros>,
    /// Images that it knows, where it can say.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub images: Vec<String>,
    /// Sizes with what an hour costs, in millionths of the installation's currency.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub sizes: BTreeMap<String, Price>,
    /// The places in which it makes machines.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub zones: Vec<String>,
    /// What people should know: how it keeps machines apart, for one.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub message: String,
}

/// What a pool's machines may cost in a day and in a month, as its week's time zone counts them.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Budget {
    /// Millionths of the currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub day: Option<Money>,
    /// Millionths of the currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub month: Option<Money>,
}

impl Budget {
    /// Whether there is no limit.
    pub fn is_none(&self) -> bool {
        *self == Budget::default()
    }
}

/// A day of the week.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Day {
    Mon,
    Tue,
    Wed,
    Thu,
    Fri,
    Sat,
    Sun,
}

impl Day {
    const ALL: [Day; 7] = [
        Day::Mon,
        Day::Tue,
        Day::Wed,
        Day::Thu,
        Day::Fri,
        Day::Sat,
        Day::Sun,
    ];

    fn of(weekday: Weekday) -> Day {
        let at = usize::try_from(weekday.to_monday_zero_offset()).unwrap_or(0);
        Self::ALL.get(at).copied().unwrap_or(Day::Mon)
    }

    fn before(self) -> Day {
        let at = Self::ALL.iter().position(|day| *day == self).unwrap_or(0);
        Self::ALL.get((at + 6) % 7).copied().unwrap_or(self)
    }
}

/// A stretch of some days of the week.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Times {
    pub days: BTreeSet<Day>,
    /// When it begins: `08:00`.
    pub from: String,
    /// When it ends; on the next day where that is not after its beginning. `24:00` is the end of the day.
    pub until: String,
    /// The floor meanwhile, if it is another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub floor: Option<u32>,
    /// The spare meanwhile, if it is another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spare: Option<u32>,
}

/// Floors and spares by the time of week. Where stretches overlap, the last one counts.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Week {
    /// The time zone's name in the IANA database, such as `Europe/Dublin`; UTC when empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub zone: String,
    pub times: Vec<Times>,
}

/// Why a week makes no sense.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum WeekError {
    /// No time of day.
    #[error("{0:?} is not a time of day: HH:MM, 00:00 to 24:00")]
    Time(String),
    /// No days.
    #[error("a period of the week needs at least one day")]
    NoDay,
    /// Nothing differs in it.
    #[error("a period of the week needs a floor or a spare")]
    Nothing,
}

/// Minutes since the day began.
fn minutes(text: &str) -> Result<u32, WeekError> {
    let wrong = || WeekError::Time(text.to_owned());
    let (hours, minutes) = text.split_once(':').ok_or_else(wrong)?;
    let two = |part: &str| {
        let digits = part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_digit());
        digits.then(|| part.parse::<u32>().ok()).flatten()
    };
    let (hours, minutes) = two(hours).zip(two(minutes)).ok_or_else(wrong)?;
    let all = hours * 60 + minutes;
    if minutes > 59 || all > 24 * 60 {
        return Err(wrong());
    }
    Ok(all)
}

fn of_day(time: Time) -> u32 {
    let part = |value: i8| u32::try_from(value).unwrap_or(0);
    part(time.hour()) * 60 + part(time.minute())
}

impl Week {
    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        *self == Week::default()
    }

    /// Whether every stretch can be understood.
    pub fn check(&self) -> Result<(), WeekError> {
        for times in &self.times {
            minutes(&times.from)?;
            minutes(&times.until)?;
            if times.days.is_empty() {
                return Err(WeekError::NoDay);
            }
            if times.floor.is_none() && times.spare.is_none() {
                return Err(WeekError::Nothing);
            }
        }
        Ok(())
    }

    /// The floor and the spare at a moment, in the week's time zone.
    fn at(&self, zone: &TimeZone, now: Moment) -> (Option<u32>, Option<u32>) {
        if self.times.is_empty() {
            return (None, None);
        }
        let local = zoned(now, zone);
        let (day, minute) = (Day::of(local.weekday()), of_day(local.time()));
        let (mut floor, mut spare) = (None, None);
        for times in &self.times {
            let (Ok(from), Ok(until)) = (minutes(&times.from), minutes(&times.until)) else {
                continue;
            };
            let on = if from < until {
                times.days.contains(&day) && (from..until).contains(&minute)
            } else {
                (times.days.contains(&day) && minute >= from)
                    || (times.days.contains(&day.before()) && minute < until)
            };
            if on {
                floor = times.floor.or(floor);
                spare = times.spare.or(spare);
            }
        }
        (floor, spare)
    }
}

/// A moment as people in a time zone say it.
fn zoned(at: Moment, zone: &TimeZone) -> Zoned {
    let at = Timestamp::from_microsecond(at.micros()).unwrap_or_default();
    at.to_zoned(zone.clone())
}

/// When the day and the month began that a moment is in, as people in a time zone count.
pub(super) fn day_and_month(at: Moment, zone: &TimeZone) -> (Moment, Moment) {
    let local = zoned(at, zone);
    let moment = |begun: Result<Zoned, jiff::Error>| {
        begun.map_or(at, |begun| {
            Moment::from_micros(begun.timestamp().as_microsecond())
        })
    };
    let month = local
        .first_of_month()
        .and_then(|first| first.start_of_day());
    (moment(local.start_of_day()), moment(month))
}

/// When the day ends that a moment is in.
pub(super) fn day_after(at: Moment, zone: &TimeZone) -> Moment {
    let tomorrow = zoned(at, zone)
        .tomorrow()
        .and_then(|next| next.start_of_day());
    tomorrow.map_or(at, |begun| {
        Moment::from_micros(begun.timestamp().as_microsecond())
    })
}

impl Supply {
    /// The floor and the spare at a moment.
    pub fn floor_and_spare(&self, zone: &TimeZone, now: Moment) -> (u32, u32) {
        let (floor, spare) = self.week.at(zone, now);
        (floor.unwrap_or(self.floor), spare.unwrap_or(self.spare))
    }

    /// Slots of each of its machines.
    pub fn machine_slots(&self) -> u32 {
        if self.single_use {
            1
        } else {
            self.slots.max(1)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Moment {
        let at: Timestamp = text.parse().unwrap();
        Moment::from_micros(at.as_microsecond())
    }

    fn week(from: &str, until: &str) -> Week {
        Week {
            zone: String::new(),
            times: vec![Times {
                days: [Day::Mon, Day::Fri].into(),
                from: from.into(),
                until: until.into(),
                floor: Some(2),
                spare: None,
            }],
        }
    }

    #[test]
    fn weekly_times_apply_on_their_days_and_past_midnight_into_the_next() {
        let supply = |week: Week| Supply {
            spare: 1,
            week,
            ..Supply::default()
        };
        let utc = TimeZone::UTC;
        let day = supply(week("08:00", "18:00"));
        // 2026-11-23 is a Monday.
        assert_eq!(
            day.floor_and_spare(&utc, at("2026-11-23T07:59:59Z")),
            (0, 1)
        );
        assert_eq!(
            day.floor_and_spare(&utc, at("2026-11-23T08:00:00Z")),
            (2, 1)
        );
        assert_eq!(
            day.floor_and_spare(&utc, at("2026-11-23T18:00:00Z")),
            (0, 1)
        );
        assert_eq!(
            day.floor_and_spare(&utc, at("2026-11-24T09:00:00Z")),
            (0, 1)
        );
        let night = supply(week("22:00", "02:00"));
        assert_eq!(
            night.floor_and_spare(&utc, at("2026-11-24T01:30:00Z")),
            (2, 1)
        );
        assert_eq!(
            night.floor_and_spare(&utc, at("2026-11-25T01:30:00Z")),
            (0, 1)
        );
        assert_eq!(
            night.floor_and_spare(&utc, at("2026-11-27T23:00:00Z")),
            (2, 1)
        );
        let all = supply(week("00:00", "24:00"));
        assert_eq!(
            all.floor_and_spare(&utc, at("2026-11-27T23:59:59Z")),
            (2, 1)
        );
    }

    #[test]
    fn the_time_of_day_is_that_of_the_zone() {
        let zone = TimeZone::fixed(jiff::tz::offset(-5));
        let week = week("08:00", "18:00");
        assert_eq!(week.at(&zone, at("2026-11-23T12:59:00Z")), (None, None));
        assert_eq!(week.at(&zone, at("2026-11-23T13:00:00Z")), (Some(2), None));
        let (day, month) = day_and_month(at("2026-11-01T03:00:00Z"), &zone);
        assert_eq!(day, at("2026-10-31T05:00:00Z"));
        assert_eq!(month, at("2026-10-01T05:00:00Z"));
    }

    #[test]
    fn invalid_weekly_times_are_named() {
        for wrong in ["8:00", "24:01", "12:60", "noon", "+1:00", ""] {
            let error = week(wrong, "10:00").check().unwrap_err();
            assert_eq!(error, WeekError::Time(wrong.to_owned()));
        }
        let mut none = week("08:00", "10:00");
        none.times[0].floor = None;
        assert_eq!(none.check(), Err(WeekError::Nothing));
        none.times[0].days.clear();
        assert_eq!(none.check(), Err(WeekError::NoDay));
    }
}
