//! What machines cost: exact sums of price times time.

use super::supply::day_and_month;
use crate::dispatch::Price;
use crate::time::Moment;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// An amount of money: millionths of the installation's currency.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(transparent)]
pub struct Money(pub u64);

impl fmt::Display for Money {
    /// With two decimals, or as many as it takes where it is less than one hundredth.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (whole, rest) = (self.0 / 1_000_000, self.0 % 1_000_000);
        if self.0 > 0 && self.0 < 10_000 {
            let text = format!("{rest:06}");
            write!(f, "0.{}", text.trim_end_matches('0'))
        } else {
            write!(f, "{whole}.{:02}", rest / 10_000)
        }
    }
}

/// Microseconds of an hour: a price is for one.
const HOUR: u128 = 3_600_000_000;

/// Price times time, not yet divided: sums of it are exact.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
struct Exact(u128);

impl Exact {
    fn of(price: Price, from: Moment, until: Moment) -> Exact {
        Exact(u128::from(price.0) * until.since(from).as_micros())
    }

    fn money(self) -> Money {
        Money(u64::try_from(self.0 / HOUR).unwrap_or(u64::MAX))
    }
}

/// What a pool has spent today and this month.
#[derive(Clone, Debug, Default)]
pub struct Meter {
    day: Moment,
    month: Moment,
    /// Of machines that are not there any more.
    day_over: Exact,
    month_over: Exact,
}

impl Meter {
    /// Begins anew where a day or a month has begun.
    pub fn keep_time(&mut self, now: Moment, zone: &TimeZone) {
        let (day, month) = day_and_month(now, zone);
        if day != self.day {
            (self.day, self.day_over) = (day, Exact::default());
        }
        if month != self.month {
            (self.month, self.month_over) = (month, Exact::default());
        }
    }

    /// When the day and the month began that a moment is in.
    pub fn windows(now: Moment, zone: &TimeZone) -> (Moment, Moment) {
        day_and_month(now, zone)
    }

    /// Begins with what was spent before: price times microseconds.
    pub(super) fn begin_with(&mut self, day: u128, month: u128) {
        self.day_over.0 += day;
        self.month_over.0 += month;
    }

    /// A machine is not there any more.
    pub fn add(&mut self, price: Price, ordered: Moment, ended: Moment) {
        self.day_over.0 += Exact::of(price, ordered.max(self.day), ended).0;
        self.month_over.0 += Exact::of(price, ordered.max(self.month), ended).0;
    }

    /// What was spent today and this month, with the machines that are there still.
    pub fn spent(
        &self,
        there: impl Iterator<Item = (Price, Moment)>,
        now: Moment,
    ) -> (Money, Money) {
        let (mut day, mut month) = (self.day_over, self.month_over);
        for (price, ordered) in there {
            day.0 += Exact::of(price, ordered.max(self.day), now).0;
            month.0 += Exact::of(price, ordered.max(self.month), now).0;
        }
        (day.money(), month.money())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600_000_000;

    fn at(hours: i64) -> Moment {
        Moment::from_micros(hours * HOUR)
    }

    #[test]
    fn a_machine_over_midnight_is_paid_for_on_both_days() {
        let mut meter = Meter::default();
        let price = Price(1_000_000);
        // 1970-01-03 is in no special place of its month.
        meter.keep_time(at(71), &TimeZone::UTC);
        let there = || [(price, at(70))].into_iter();
        assert_eq!(
            meter.spent(there(), at(71)),
            (Money(1_000_000), Money(1_000_000))
        );
        meter.keep_time(at(73), &TimeZone::UTC);
        assert_eq!(
            meter.spent(there(), at(73)),
            (Money(1_000_000), Money(3_000_000))
        );
        meter.add(price, at(70), at(73));
        assert_eq!(
            meter.spent(std::iter::empty(), at(80)),
            (Money(1_000_000), Money(3_000_000))
        );
    }

    #[test]
    fn sums_lose_nothing_to_rounding() {
        let mut meter = Meter::default();
        meter.keep_time(at(48), &TimeZone::UTC);
        // A thousandth of a millionth each, a thousand million times as long together.
        for n in 0..3600 {
            let from = at(48) + std::time::Duration::from_secs(n);
            meter.add(Price(1), from, from + std::time::Duration::from_secs(1));
        }
        assert_eq!(meter.spent(std::iter::empty(), at(50)).0, Money(1));
    }

    #[test]
    fn money_is_written_with_two_decimals_unless_it_is_less() {
        assert_eq!(Money(12_500_000).to_string(), "12.50");
        assert_eq!(Money(0).to_string(), "0.00");
        assert_eq!(Money(1_200).to_string(), "0.0012");
    }
}
