//! What machines cost: exact sums of price times time.

use super::supply::{day_after, day_and_month};
use crate::count::grouped;
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

impl Money {
    /// The amount followed by the currency's code, as `0.25 EUR`; alone where no currency is set.
    pub fn in_currency(self, code: &str) -> String {
        format!("{self} {code}").trim_end().to_owned()
    }
}

impl fmt::Display for Money {
    /// For people: with two decimals, rounded down, and `under 0.01` for what is less than that.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (whole, rest) = (self.0 / 1_000_000, self.0 % 1_000_000);
        if self.0 > 0 && self.0 < 10_000 {
            f.write_str("under 0.01")
        } else {
            write!(f, "{}.{:02}", grouped(whole), rest / 10_000)
        }
    }
}

/// Microseconds of an hour: a price is for one.
const HOUR: i128 = 3_600_000_000;

/// Price times time, not yet divided: sums of it are exact. May be below nothing on the way to a sum.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
struct Exact(i128);

impl Exact {
    fn of(price: Price, from: Moment, until: Moment) -> Exact {
        let length = i128::from(until.micros()) - i128::from(from.micros());
        Exact(i128::from(price.0) * length.max(0))
    }

    /// What it would have cost since the beginning of time until this moment.
    fn until(price: Price, moment: Moment) -> i128 {
        i128::from(price.0) * i128::from(moment.micros())
    }

    fn money(self) -> Money {
        Money(u64::try_from(self.0.max(0) / HOUR).unwrap_or(u64::MAX))
    }
}

/// What a pool has spent today and this month.
///
/// What the machines that exist have cost by now is `price of all x now - sum(price x beginning)`, so that it takes no
/// look at any of them.
#[derive(Clone, Debug, Default)]
pub struct Meter {
    day: Moment,
    month: Moment,
    /// When the next day begins.
    tomorrow: Moment,
    /// Of machines that are not there any more.
    day_over: Exact,
    month_over: Exact,
    /// What all machines that exist cost in an hour.
    rate: i128,
    /// For each of them its price times its beginning, in this day and this month.
    begun_in_day: i128,
    begun_in_month: i128,
}

impl Meter {
    /// Whether the day that is counted is not the one that it is now.
    pub(super) fn is_over(&self, now: Moment) -> bool {
        now >= self.tomorrow || now < self.day
    }

    /// Begins again where a day or a month has begun, with what exists: prices and beginnings.
    pub(super) fn keep_time(
        &mut self,
        now: Moment,
        zone: &TimeZone,
        existing: impl Iterator<Item = (Price, Moment)>,
    ) {
        let (day, month) = day_and_month(now, zone);
        if day != self.day {
            (self.day, self.day_over) = (day, Exact::default());
        }
        if month != self.month {
            (self.month, self.month_over) = (month, Exact::default());
        }
        self.tomorrow = day_after(now, zone);
        (self.rate, self.begun_in_day, self.begun_in_month) = (0, 0, 0);
        for (price, ordered) in existing {
            self.begin(price, ordered);
        }
    }

    /// When the day and the month began that a moment is in.
    pub fn windows(now: Moment, zone: &TimeZone) -> (Moment, Moment) {
        day_and_month(now, zone)
    }

    /// Begins with what was spent before: price times microseconds.
    pub(super) fn begin_with(&mut self, day: u128, month: u128) {
        self.day_over.0 += i128::try_from(day).unwrap_or(i128::MAX / 2);
        self.month_over.0 += i128::try_from(month).unwrap_or(i128::MAX / 2);
    }

    /// A machine exists that was ordered then.
    pub(super) fn begin(&mut self, price: Price, ordered: Moment) {
        self.rate += i128::from(price.0);
        self.begun_in_day += Exact::until(price, ordered.max(self.day));
        self.begun_in_month += Exact::until(price, ordered.max(self.month));
    }

    /// A machine is not counted here any more, as if it had never been.
    pub(super) fn forget(&mut self, price: Price, ordered: Moment) {
        self.rate -= i128::from(price.0);
        self.begun_in_day -= Exact::until(price, ordered.max(self.day));
        self.begun_in_month -= Exact::until(price, ordered.max(self.month));
    }

    /// A machine has ended then.
    pub(super) fn end(&mut self, price: Price, ordered: Moment, ended: Moment) {
        self.forget(price, ordered);
        self.day_over.0 += Exact::of(price, ordered.max(self.day), ended).0;
        self.month_over.0 += Exact::of(price, ordered.max(self.month), ended).0;
    }

    /// What was spent today and this month, with the machines that exist.
    pub fn spent(&self, now: Moment) -> (Money, Money) {
        let existing = self.rate * i128::from(now.micros());
        let money = |over: Exact, begun: i128| {
            let existing = (existing - begun).max(0);
            Exact(over.0.saturating_add(existing)).money()
        };
        (
            money(self.day_over, self.begun_in_day),
            money(self.month_over, self.begun_in_month),
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const HOUR: i64 = 3_600_000_000;

    fn at(hours: i64) -> Moment {
        Moment::from_micros(hours * HOUR)
    }

    #[test]
    fn the_cost_of_a_machine_over_midnight_counts_on_both_days() {
        let mut meter = Meter::default();
        let price = Price(1_000_000);
        let existing = || std::iter::once((price, at(70)));
        // 1970-01-03 is in no special place of its month.
        meter.begin(price, at(70));
        meter.keep_time(at(71), &TimeZone::UTC, existing());
        assert_eq!(meter.spent(at(71)), (Money(1_000_000), Money(1_000_000)));
        assert!(!meter.is_over(at(71)) && meter.is_over(at(72)));
        meter.keep_time(at(73), &TimeZone::UTC, existing());
        assert_eq!(meter.spent(at(73)), (Money(1_000_000), Money(3_000_000)));
        meter.end(price, at(70), at(73));
        assert_eq!(meter.spent(at(80)), (Money(1_000_000), Money(3_000_000)));
    }

    #[test]
    fn sums_lose_nothing_to_rounding() {
        let mut meter = Meter::default();
        meter.keep_time(at(48), &TimeZone::UTC, std::iter::empty());
        // A thousandth of a millionth each, a thousand million times as long together.
        for n in 0..3600 {
            let from = at(48) + std::time::Duration::from_secs(n);
            meter.begin(Price(1), from);
            meter.end(Price(1), from, from + std::time::Duration::from_secs(1));
        }
        assert_eq!(meter.spent(at(50)).0, Money(1));
    }

    proptest! {
        /// Machines that are ordered and end over four days, with the meter looked at in between.
        #[test]
        fn what_was_spent_is_the_sum_over_the_machines(
            lives in proptest::collection::vec((1u64..5_000_000, 0i64..96, 0i64..60), 0..20),
            looks in proptest::collection::vec(1i64..20, 1..10),
        ) {
            let begin = 20_000 * 24;
            let lives: Vec<(Price, i64, i64)> =
                lives.into_iter().map(|(price, from, length)| (Price(price), begin + from, begin + from + length)).collect();
            let mut meter = Meter::default();
            meter.keep_time(at(begin), &TimeZone::UTC, std::iter::empty());
            let mut hour = begin;
            for step in looks {
                let before = hour;
                hour += step;
                // Events between two evaluations are applied in their order, each at its hour.
                for time in before..hour {
                    let there = lives.iter().filter(|(_, from, until)| *from < time && *until >= time);
                    if meter.is_over(at(time)) {
                        meter.keep_time(at(time), &TimeZone::UTC, there.map(|(price, from, _)| (*price, at(*from))));
                    }
                    for (price, from, until) in &lives {
                        if *from == time {
                            meter.begin(*price, at(*from));
                        }
                        if *until == time {
                            meter.end(*price, at(*from), at(*until));
                        }
                    }
                }
                let now = hour - 1;
                let (day, month) = Meter::windows(at(now), &TimeZone::UTC);
                let sum = |since: Moment| {
                    let paid = lives.iter().filter(|(_, from, _)| *from <= now).map(|(price, from, until)| {
                        Exact::of(*price, at(*from).max(since), at((*until).min(now))).0
                    });
                    Exact(paid.sum()).money()
                };
                prop_assert_eq!(meter.spent(at(now)), (sum(day), sum(month)));
            }
        }
    }

    #[test]
    fn money_is_written_with_two_decimals_unless_it_is_less() {
        assert_eq!(Money(12_500_000).to_string(), "12.50");
        assert_eq!(Money(0).to_string(), "0.00");
        assert_eq!(Money(1_200).to_string(), "under 0.01");
        assert_eq!(Money(1_234_567_890).to_string(), "1,234.56");
    }
}
