//! Targets for waits: error budget, burn rate, and when a target will be missed at the present rate.
//!
//! A target such as "95 % of jobs wait at most 60 s, over 7 days" allows 5 % of the waits that begin in those days to be late: its
//! error budget. A wait is *kept* if it ends within the time, *late* as soon as it exceeds the time, and undecided until then. Jobs
//! that are still waiting count, so that an outage does not look like a quiet day.
//!
//! The burn rate of a period is the share recently waits among the decided ones, divided by the share that may be late: at 1 the
//! budget is spent exactly at the end of the window. A budget burns fast if its rate is high over the last hour and over the last
//! five minutes, so that neither a single bad minute nor a problem long past raises an alert (burn rates over several windows: The
//! Site Reliability Workbook, chapter 5).

use crate::count::grouped;
use crate::measure::Histogram;
use crate::measure::rank::PerMille;
use crate::time::{Micros, Moment, spoken};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// The period of the reported burn rate.
pub const HOUR: Duration = Duration::from_secs(3600);
/// The period in which the rate must still be high.
pub const RECENT: Duration = Duration::from_secs(300);
/// A budget burns fast if an hour spends this share of it, in thousandths.
const HOURS_SHARE: u64 = 20;
/// The lowest rate that counts as fast, in thousandths: in a short window an hour is a large part.
const LEAST_BURN: u64 = 2000;
/// Fewer late waits than this within the hour raise no alert.
const LEAST_LATE: u64 = 3;

/// The objective of a target.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Objective {
    /// The share of waits, in thousandths.
    pub share: PerMille,
    /// The longest wait.
    pub within_us: Micros,
    /// The window in days.
    pub days: u32,
}

/// Why an objective is invalid.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum InvalidTarget {
    #[error("a share is 50 % to 99.9 %: with 100 %, a single late job would miss it")]
    Share,
    #[error("the time is 1 s to 7 d")]
    Within,
    #[error("the window is 1 to 90 days")]
    Days,
}

impl Objective {
    /// Checks that it can be met and missed.
    pub fn check(&self) -> Result<(), InvalidTarget> {
        let within = Duration::from(self.within_us);
        if !(500..=999).contains(&self.share.0) {
            return Err(InvalidTarget::Share);
        }
        if within < Duration::from_secs(1) || within > Duration::from_secs(7 * 86_400) {
            return Err(InvalidTarget::Within);
        }
        if !(1..=90).contains(&self.days) {
            return Err(InvalidTarget::Days);
        }
        Ok(())
    }

    /// Returns the length of its window.
    pub fn window(&self) -> Duration {
        Duration::from_secs(u64::from(self.days) * 86_400)
    }

    /// Returns how many in a thousand waits may be late.
    fn may_be_late(&self) -> u64 {
        u64::from(1000 - self.share.0.min(999))
    }

    /// Returns the rate, in thousandths, from which its budget burns fast.
    fn fast(&self) -> u64 {
        (u64::from(self.days) * 24 * HOURS_SHARE).max(LEAST_BURN)
    }

    /// As one line: `95 % of jobs wait at most 60 s (over 7 days`.)
    pub fn describe(&self) -> String {
        let days = if self.days == 1 { "day" } else { "days" };
        format!(
            "{} of jobs wait at most {} (over {} {days})",
            self.share,
            spoken(self.within_us.into()),
            self.days
        )
    }
}

/// Counts of waits, by whether they were in time.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Tally {
    /// Ended in time.
    pub kept: u64,
    /// Late, whether or not they have ended.
    pub late: u64,
    /// Still waiting, in time so far.
    pub undecided: u64,
}

impl Tally {
    /// Counts a wait by its start and its length so far; `waits` is true while it continues. Of the waits that are
    /// decided, only what was decided from one moment until before another counts.
    pub fn count(
        &mut self,
        promise: &Objective,
        (ready, waited, waits): (Moment, Micros, bool),
        (from, until): (Moment, Moment),
    ) {
        let decided_at = |after: Micros| ready + Duration::from(after);
        let within = |at: Moment| at >= from && at < until;
        if waited > promise.within_us {
            self.late += u64::from(within(decided_at(promise.within_us)));
        } else if waits {
            self.undecided += 1;
        } else {
            self.kept += u64::from(within(decided_at(waited)));
        }
    }

    /// Counts all waits of a window: lengths of finished waits, and ages of current ones. Lengths are read from a
    /// histogram, so that a wait within 1.6 % of the promised time may be counted on either side.
    pub fn of(promise: &Objective, over: &Histogram, ages: &[u64]) -> Tally {
        let within = promise.within_us.0;
        let late = over.above(within);
        let late_ages = ages.iter().filter(|age| **age > within).count() as u64;
        Tally {
            kept: over.count() - late,
            late: late + late_ages,
            undecided: ages.len() as u64 - late_ages,
        }
    }

    /// How many are decided.
    pub fn decided(&self) -> u64 {
        self.kept + self.late
    }

    /// The burn rate in thousandths; none of nothing.
    fn burn(&self, promise: &Objective) -> Option<u64> {
        let allowed = self.decided() * promise.may_be_late();
        (allowed > 0).then(|| {
            let exact = u128::from(self.late) * 1_000_000 / u128::from(allowed);
            u64::try_from(exact).unwrap_or(u64::MAX)
        })
    }
}

/// The state of a target.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TargetState {
    /// So few waits that none of them may be late.
    TooFew,
    /// Met so far.
    Met,
    /// Met so far, but its budget burns fast.
    AtRisk,
    /// More waits are late than allowed.
    Missed,
}

impl TargetState {
    /// Returns the word for people.
    pub fn word(self) -> &'static str {
        match self {
            TargetState::TooFew => "too few",
            TargetState::Met => "met",
            TargetState::AtRisk => "at risk",
            TargetState::Missed => "missed",
        }
    }
}

/// The standing of a target.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize, ToSchema)]
pub struct TargetStanding {
    pub state: TargetState,
    /// Its window.
    pub window: Tally,
    /// The waits decided within the last hour.
    pub hour: Tally,
    /// How many of the window's waits may be late.
    pub allowed: u64,
    /// How many more may be late; negative if too many are.
    pub left: i64,
    /// The burn rate over the last hour, in thousandths: 1000 spends the budget exactly at the end of the window.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burn: Option<u64>,
    /// Whether it burns fast, over the last hour and over the last five minutes.
    pub fast: bool,
    /// When the budget is spent at the rate of the last hour.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missed_in_us: Option<Micros>,
    /// As one sentence.
    pub message: String,
}

impl TargetStanding {
    /// Computes the standing from the tallies of the window, the last hour and the last five minutes.
    pub fn of(promise: &Objective, window: Tally, hour: Tally, recent: Tally) -> TargetStanding {
        let decided = window.decided();
        let allowed = decided * promise.may_be_late() / 1000;
        let signed = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        let left = signed(allowed) - signed(window.late);
        let burns = |tally: &Tally| {
            tally
                .burn(promise)
                .is_some_and(|burn| burn >= promise.fast())
        };
        let fast = hour.late >= LEAST_LATE && burns(&hour) && burns(&recent);
        let state = if left < 0 && window.late >= LEAST_LATE {
            TargetState::Missed
        } else if fast {
            TargetState::AtRisk
        } else if allowed == 0 {
            TargetState::TooFew
        } else {
            TargetState::Met
        };
        let missed_in_us = missed_in(promise, window, hour);
        let mut standing = TargetStanding {
            state,
            window,
            hour,
            allowed,
            left,
            burn: hour.burn(promise),
            fast,
            missed_in_us,
            message: String::new(),
        };
        standing.message = standing.sentence(promise);
        standing
    }

    fn sentence(&self, promise: &Objective) -> String {
        let Tally {
            kept,
            late,
            undecided,
        } = self.window;
        let decided = self.window.decided();
        if decided == 0 {
            return match undecided {
                0 => "No jobs have waited yet.".to_owned(),
                n => format!("{n} still wait, all within the limit so far."),
            };
        }
        let waits = if decided == 1 {
            "wait was"
        } else {
            "waits were"
        };
        let mut message = format!(
            "{} of {} {waits} in time",
            PerMille(u16::try_from(kept * 1000 / decided).unwrap_or(0)),
            grouped(decided)
        );
        match self.state {
            TargetState::TooFew => {
                message += &format!(
                    "; too few to tell whether the target of {} is met.",
                    promise.share
                );
            }
            TargetState::Missed => {
                message += &format!(
                    ": {} were late (allowed: {}). The target is missed.",
                    grouped(late),
                    grouped(self.allowed)
                );
            }
            TargetState::Met | TargetState::AtRisk => {
                message += &format!(
                    ": {} were late (allowed before it is missed: {} more).",
                    grouped(late),
                    grouped(self.left.max(0).unsigned_abs())
                );
            }
        }
        if self.state != TargetState::Missed
            && let Some(breaks) = self.missed_in_us
        {
            message += &format!(
                " At the rate of the last hour ({} of {} late), it is missed in {}.",
                self.hour.late,
                self.hour.decided(),
                spoken(breaks.into())
            );
        } else if self.fast {
            message += &format!(
                " {} of {} were late in the last hour.",
                self.hour.late,
                self.hour.decided()
            );
        }
        message
    }
}

/// Returns when a budget is spent if each further hour has as many late and as many decided waits as the last one: the time after
/// which late + L t exceeds the allowed share of (decided + D t). Waits that leave the window in the meantime are ignored.
fn missed_in(promise: &Objective, window: Tally, hour: Tally) -> Option<Micros> {
    let may = u128::from(promise.may_be_late());
    let budget = u128::from(window.decided()) * may;
    let spent = u128::from(window.late) * 1000;
    let left = budget.checked_sub(spent)?;
    // Each in thousandths of a job, for an hour.
    let more = (u128::from(hour.late) * 1000).checked_sub(u128::from(hour.decided()) * may)?;
    if more == 0 {
        return None;
    }
    let micros = left * HOUR.as_micros() / more;
    let micros = Micros(u64::try_from(micros).ok()?);
    (Duration::from(micros) <= promise.window()).then_some(micros)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn promise(share: u16, days: u32) -> Objective {
        Objective {
            share: PerMille(share),
            within_us: Micros(60_000_000),
            days,
        }
    }

    fn tally(kept: u64, late: u64) -> Tally {
        Tally {
            kept,
            late,
            undecided: 0,
        }
    }

    #[test]
    fn a_percentage_is_written_and_read() {
        for (text, share) in [("95", 950), ("99.5 %", 995), ("50%", 500), (" 100 ", 1000)] {
            assert_eq!(text.parse(), Ok(PerMille(share)), "{text}");
        }
        assert_eq!(PerMille(995).to_string(), "99.5 %");
        for wrong in ["", "%", "9,5", "99.55", "100.1", "-3", "1e1", "99."] {
            assert!(wrong.parse::<PerMille>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn an_alert_names_the_budget_and_when_it_will_be_spent() {
        let promise = promise(950, 7);
        let standing = TargetStanding::of(&promise, tally(960, 40), tally(10, 10), tally(1, 1));
        assert_eq!((standing.allowed, standing.left), (50, 10));
        // Ten late and one more allowed in each hour.
        assert_eq!(standing.missed_in_us, Some(Micros(4_000_000_000)));
        assert_eq!(standing.burn, Some(10_000));
        assert_eq!(standing.state, TargetState::AtRisk);
        assert_eq!(
            standing.message,
            "96 % of 1,000 waits were in time: 40 were late (allowed before it is missed: 10 more). At the rate of the last hour (10 of 20 late), it is missed in 1 h 6 min."
        );
    }

    #[test]
    fn neither_a_bad_minute_nor_a_past_one_raises_an_alert() {
        let promise = promise(950, 7);
        let state = |hour, recent| TargetStanding::of(&promise, tally(960, 40), hour, recent).state;
        assert_eq!(state(tally(95, 5), tally(0, 5)), TargetState::Met);
        assert_eq!(state(tally(10, 10), tally(9, 0)), TargetState::Met);
        assert_eq!(state(tally(0, 2), tally(0, 2)), TargetState::Met);
        assert_eq!(state(tally(10, 10), Tally::default()), TargetState::Met);
        let few = TargetStanding::of(&promise, tally(3, 1), tally(3, 1), tally(3, 1));
        assert_eq!(few.state, TargetState::TooFew);
        let broken = TargetStanding::of(&promise, tally(40, 4), tally(0, 0), tally(0, 0));
        assert_eq!((broken.state, broken.left), (TargetState::Missed, -2));
    }

    #[test]
    fn targets_that_can_never_be_met_or_missed_are_refused() {
        assert_eq!(promise(950, 7).check(), Ok(()));
        assert_eq!(promise(1000, 7).check(), Err(InvalidTarget::Share));
        assert_eq!(promise(950, 0).check(), Err(InvalidTarget::Days));
        let long = Objective {
            within_us: Micros(u64::MAX),
            ..promise(950, 7)
        };
        assert_eq!(long.check(), Err(InvalidTarget::Within));
    }

    fn second(seconds: u64) -> Moment {
        Moment::from_micros(i64::try_from(seconds).unwrap() * 1_000_000)
    }

    proptest! {
        /// Each wait is decided once, in exactly one of the stretches that time is cut into, and as the plain reading of
        /// the promise says.
        #[test]
        fn each_wait_is_decided_once(
            waits in proptest::collection::vec((0u64..500, 0u64..200), 0..60),
            cut in 1u64..700,
        ) {
            let promise = promise(950, 1);
            let now = 700;
            let seen: Vec<(Moment, Micros, bool)> = waits
                .iter()
                .map(|(ready, length)| {
                    let waited = (*length).min(now - ready);
                    (second(*ready), Micros(waited * 1_000_000), *length > now - ready)
                })
                .collect();
            let within = |from, until| {
                let mut tally = Tally::default();
                for wait in &seen {
                    tally.count(&promise, *wait, (second(from), second(until)));
                }
                tally
            };
            let (before, after, all) = (within(0, cut), within(cut, 2000), within(0, 2000));
            prop_assert_eq!(before.late + after.late, all.late);
            prop_assert_eq!(before.kept + after.kept, all.kept);
            prop_assert_eq!(all.decided() + all.undecided, waits.len() as u64);
            let late = waits.iter().filter(|(ready, length)| *length > 60 && ready + 60 < now);
            prop_assert_eq!(all.late, late.count() as u64);
            // The same from lengths alone.
            let mut over = Histogram::default();
            let mut ages = Vec::new();
            for (_, waited, waits) in &seen {
                if *waits { ages.push(waited.0) } else { over.add(waited.0) }
            }
            prop_assert_eq!(Tally::of(&promise, &over, &ages), all);
        }

        /// When it is said that a budget is used up then, it holds just before and not just after.
        #[test]
        fn a_budget_is_used_up_when_it_is_said_to_be(
            (kept, late) in (100u64..100_000, 0u64..5_000),
            (more_kept, more_late) in (0u64..1_000, 0u64..1_000),
            share in 500u16..=999,
        ) {
            let promise = Objective { days: 90, ..promise(share, 90) };
            let (window, hour) = (tally(kept, late), tally(more_kept, more_late));
            if let Some(breaks) = missed_in(&promise, window, hour) {
                let left_after = |hours: f64| {
                    let decided = (kept + late) as f64 + hours * hour.decided() as f64;
                    decided * f64::from(1000 - share) / 1000.0 - late as f64 - hours * more_late as f64
                };
                let hours = breaks.0 as f64 / 3.6e9;
                prop_assert!(left_after(hours * 0.999) >= -1e-6);
                prop_assert!(left_after(hours * 1.001 + 1e-6) <= 1e-6);
            }
        }
    }
}
