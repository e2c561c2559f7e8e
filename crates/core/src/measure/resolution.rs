//! The stretches of time for which sums are kept, all of them as UTC counts: five minutes, an hour, a day, ten
//! days, a month.

use crate::time::Moment;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use std::time::Duration;

const FIVE_MINUTES: i64 = 300_000_000;
const HOUR: i64 = 3_600_000_000;
const DAY: i64 = 86_400_000_000;

/// How long a stretch is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Resolution {
    FiveMinutes,
    Hour,
    Day,
    /// From the 1st, the 11th and the 21st of a month, the last to the month's end.
    TenDays,
    Month,
}

impl Resolution {
    /// All of them, the shortest first.
    pub const ALL: [Resolution; 5] = [
        Resolution::FiveMinutes,
        Resolution::Hour,
        Resolution::Day,
        Resolution::TenDays,
        Resolution::Month,
    ];

    /// The number under which it is stored.
    pub fn code(self) -> i16 {
        match self {
            Resolution::FiveMinutes => 1,
            Resolution::Hour => 2,
            Resolution::Day => 3,
            Resolution::Month => 4,
            Resolution::TenDays => 5,
        }
    }

    /// The one with this number.
    pub fn of_code(code: i16) -> Option<Resolution> {
        Resolution::ALL
            .into_iter()
            .find(|resolution| resolution.code() == code)
    }

    fn micros(self) -> Option<i64> {
        match self {
            Resolution::FiveMinutes => Some(FIVE_MINUTES),
            Resolution::Hour => Some(HOUR),
            Resolution::Day => Some(DAY),
            Resolution::TenDays | Resolution::Month => None,
        }
    }

    /// When the stretch that holds a moment began.
    pub fn start(self, at: Moment) -> Moment {
        let known = match (self, self.micros()) {
            (_, Some(length)) => Some(Moment::from_micros(at.micros().div_euclid(length) * length)),
            (Resolution::TenDays, None) => month(at).and_then(|first| {
                let tenth = |begins: &i32| Some(moment(&days_after(&first, *begins)?));
                let all = TENTHS.iter().filter_map(tenth);
                all.filter(|start| *start <= at).max()
            }),
            (_, None) => month(at).map(|first| moment(&first)),
        };
        known.unwrap_or(at)
    }

    /// When the stretch that holds a moment ends.
    pub fn end(self, at: Moment) -> Moment {
        let next_month = || {
            let next = month(at)?.checked_add(jiff::Span::new().months(1)).ok()?;
            Some(moment(&next))
        };
        let known = match (self, self.micros()) {
            (_, Some(length)) => {
                Some(self.start(at) + Duration::from_micros(length.unsigned_abs()))
            }
            (Resolution::TenDays, None) => month(at).and_then(|first| {
                let tenth = |begins: &i32| Some(moment(&days_after(&first, *begins)?));
                let all = TENTHS.iter().filter_map(tenth);
                all.filter(|start| *start > at).min().or_else(next_month)
            }),
            (_, None) => next_month(),
        };
        known.unwrap_or(at + Duration::from_micros(DAY.unsigned_abs()))
    }
}

/// How many days after a month's first its stretches of ten days begin.
const TENTHS: [i32; 3] = [0, 10, 20];

fn days_after(first: &Zoned, days: i32) -> Option<Zoned> {
    first.checked_add(jiff::Span::new().days(days)).ok()
}

fn moment(at: &Zoned) -> Moment {
    Moment::from_micros(at.timestamp().as_microsecond())
}

/// The first moment of the month that holds a moment.
fn month(at: Moment) -> Option<Zoned> {
    let at = Timestamp::from_microsecond(at.micros()).ok()?;
    let at = at.to_zoned(TimeZone::UTC);
    at.first_of_month().ok()?.start_of_day().ok()
}

/// Stretches of one resolution, one after the other.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Run {
    pub resolution: Resolution,
    pub from: Moment,
    pub until: Moment,
}

/// A window as runs of stretches, as long ones as fit, none longer than `longest`, those of ten days only where they end by
/// `compacted_until`. Both ends are widened to whole stretches of the shortest resolution that is asked for.
pub fn cover(
    from: Moment,
    until: Moment,
    shortest: Resolution,
    longest: Resolution,
    compacted_until: Moment,
) -> Vec<Run> {
    let mut at = shortest.start(from);
    let end = if shortest.start(until) == until {
        until
    } else {
        shortest.end(until)
    };
    let mut runs: Vec<Run> = Vec::new();
    while at < end {
        let fits = |resolution: &Resolution| {
            let there = *resolution != Resolution::TenDays || resolution.end(at) <= compacted_until;
            let asked = *resolution >= shortest && *resolution <= longest;
            there && asked && resolution.start(at) == at && resolution.end(at) <= end
        };
        let resolution = Resolution::ALL
            .into_iter()
            .rev()
            .find(fits)
            .unwrap_or(shortest);
        let next = resolution.end(at);
        match runs.last_mut() {
            Some(last) if last.resolution == resolution => last.until = next,
            _ => runs.push(Run {
                resolution,
                from: at,
                until: next,
            }),
        }
        at = next;
    }
    runs
}

/// The stretches that a span of time touches, each with how much of it lies within, in microseconds.
pub fn spread(
    from: Moment,
    until: Moment,
    resolution: Resolution,
) -> impl Iterator<Item = (Moment, u64)> {
    let mut at = from;
    std::iter::from_fn(move || {
        if at >= until {
            return None;
        }
        let start = resolution.start(at);
        let end = resolution.end(at).min(until);
        let within = u64::try_from(end.micros() - at.micros()).unwrap_or(0);
        at = end;
        Some((start, within))
    })
}
