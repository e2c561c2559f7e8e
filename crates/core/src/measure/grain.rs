//! The stretches of time for which sums are kept, all of them as UTC counts: five minutes, an hour, a day, a month.

use crate::time::Moment;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use std::time::Duration;

const FIVE_MINUTES: i64 = 300_000_000;
const HOUR: i64 = 3_600_000_000;
const DAY: i64 = 86_400_000_000;

/// How long a stretch is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Grain {
    FiveMinutes,
    Hour,
    Day,
    Month,
}

impl Grain {
    /// All of them, the shortest first.
    pub const ALL: [Grain; 4] = [Grain::FiveMinutes, Grain::Hour, Grain::Day, Grain::Month];

    /// The number under which it is stored.
    pub fn code(self) -> i16 {
        match self {
            Grain::FiveMinutes => 1,
            Grain::Hour => 2,
            Grain::Day => 3,
            Grain::Month => 4,
        }
    }

    /// The one with this number.
    pub fn of_code(code: i16) -> Option<Grain> {
        Grain::ALL.into_iter().find(|grain| grain.code() == code)
    }

    fn micros(self) -> Option<i64> {
        match self {
            Grain::FiveMinutes => Some(FIVE_MINUTES),
            Grain::Hour => Some(HOUR),
            Grain::Day => Some(DAY),
            Grain::Month => None,
        }
    }

    /// When the stretch that holds a moment began.
    pub fn start(self, at: Moment) -> Moment {
        match self.micros() {
            Some(length) => Moment::from_micros(at.micros().div_euclid(length) * length),
            None => month(at).map_or(at, |first| moment(&first)),
        }
    }

    /// When the stretch that holds a moment ends.
    pub fn end(self, at: Moment) -> Moment {
        match self.micros() {
            Some(length) => self.start(at) + Duration::from_micros(length.unsigned_abs()),
            None => month(at)
                .and_then(|first| first.checked_add(jiff::Span::new().months(1)).ok())
                .map_or(at + Duration::from_micros(DAY.unsigned_abs()), |next| {
                    moment(&next)
                }),
        }
    }
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

/// Stretches of one grain, one after the other.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Run {
    pub grain: Grain,
    pub from: Moment,
    pub until: Moment,
}

/// A window as runs of stretches, as long ones as fit, none longer than `longest`. Both ends are widened to whole
/// stretches of the shortest grain that is asked for.
pub fn cover(from: Moment, until: Moment, shortest: Grain, longest: Grain) -> Vec<Run> {
    let mut at = shortest.start(from);
    let end = if shortest.start(until) == until {
        until
    } else {
        shortest.end(until)
    };
    let mut runs: Vec<Run> = Vec::new();
    while at < end {
        let fits = |grain: &Grain| {
            *grain >= shortest && *grain <= longest && grain.start(at) == at && grain.end(at) <= end
        };
        let grain = Grain::ALL.into_iter().rev().find(fits).unwrap_or(shortest);
        let next = grain.end(at);
        match runs.last_mut() {
            Some(last) if last.grain == grain => last.until = next,
            _ => runs.push(Run {
                grain,
                from: at,
                until: next,
            }),
        }
        at = next;
    }
    runs
}

/// The stretches that a span of time touches, each with how much of it lies within, in microseconds.
pub fn spread(from: Moment, until: Moment, grain: Grain) -> impl Iterator<Item = (Moment, u64)> {
    let mut at = from;
    std::iter::from_fn(move || {
        if at >= until {
            return None;
        }
        let start = grain.start(at);
        let end = grain.end(at).min(until);
        let within = u64::try_from(end.micros() - at.micros()).unwrap_or(0);
        at = end;
        Some((start, within))
    })
}
