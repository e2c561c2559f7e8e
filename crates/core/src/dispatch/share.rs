//! Fair shares: who has used how much recently.
//!
//! A place's claim on the yard falls with the slot-time it used recently: `used = integral of slots held x
//! 2^(-(now - t) / half-life)`, plus an advance for each slot that it holds now, divided by its weight. The place with
//! the least goes first.
//!
//! All places decay by the same factor, so nothing has to be recomputed as time passes: times are counted in a unit
//! that grows as they decay (`growth`), and a slot that is held adds `K * growth(end) - K * growth(start)`, where
//! `K = half-life / ln 2`.

use crate::time::Moment;
use std::time::Duration;

/// How the order among waiting jobs follows from time and use.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct SharePolicy {
    /// After this long, slot-time that was used counts half.
    pub half_life: Duration,
    /// What a slot counts beforehand while it is held, as if it had been used already.
    pub advance: Duration,
    /// After this long a waiting job climbs a band.
    pub climb_after: Duration,
}

impl Default for SharePolicy {
    fn default() -> Self {
        SharePolicy {
            half_life: Duration::from_secs(3600),
            advance: Duration::from_secs(600),
            climb_after: Duration::from_secs(900),
        }
    }
}

/// The growing unit.
#[derive(Clone, Copy, Debug)]
pub(super) struct UsageScale {
    origin: Moment,
    half_life: f64,
    advance: f64,
}

/// Past this many half-lives the origin is moved, so that the numbers stay small.
const MOVE_AFTER: f64 = 400.0;

impl UsageScale {
    pub fn new(policy: &SharePolicy) -> Self {
        UsageScale {
            origin: Moment::default(),
            half_life: policy.half_life.as_secs_f64().max(1e-6),
            advance: policy.advance.as_secs_f64(),
        }
    }

    /// Half-lives since the origin.
    fn age(&self, at: Moment) -> f64 {
        (at.micros() - self.origin.micros()) as f64 / 1e6 / self.half_life
    }

    pub fn growth(&self, at: Moment) -> f64 {
        self.age(at).exp2()
    }

    fn k(&self) -> f64 {
        self.half_life / std::f64::consts::LN_2
    }

    /// When the origin has to move to this moment: by what everything that was used is to be multiplied.
    pub fn shift(&mut self, to: Moment) -> Option<f64> {
        let age = self.age(to);
        (age.abs() > MOVE_AFTER).then(|| {
            self.origin = to;
            (-age).exp2()
        })
    }
}

/// What one place used recently.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Usage {
    used: f64,
    held: u32,
}

impl Usage {
    pub fn take(&mut self, scale: &UsageScale, growth: f64) {
        self.used -= scale.k() * growth;
        self.held += 1;
    }

    pub fn give_back(&mut self, scale: &UsageScale, growth: f64) {
        self.used += scale.k() * growth;
        self.held = self.held.saturating_sub(1);
    }

    /// Slot-time used before, as it counts at the moment of this growth.
    pub fn add(&mut self, slot_time: Duration, growth: f64) {
        self.used += slot_time.as_secs_f64() * growth;
    }

    pub fn shift(&mut self, by: f64) {
        self.used *= by;
    }

    /// Slots held now.
    pub fn held(&self) -> u32 {
        self.held
    }

    /// What it counts at the moment of this growth, by weight: whole milliseconds of slot-time, so that places which
    /// used the same are equal whatever the rounding.
    pub fn score(&self, scale: &UsageScale, growth: f64, weight: f64) -> i64 {
        let counts = self.used / growth + f64::from(self.held) * (scale.k() + scale.advance);
        (counts / weight * 1e3).round() as i64
    }

    /// Slot-time used recently, decayed to this moment.
    pub fn recent(&self, scale: &UsageScale, growth: f64) -> Duration {
        let seconds = self.used / growth + f64::from(self.held) * scale.k();
        Duration::try_from_secs_f64(seconds.max(0.0)).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The integral itself, in steps.
    fn by_hand(spans: &[(u32, u32)], now: u32, half_life: f64) -> f64 {
        let weight = |t: f64| (-(f64::from(now) - t) / half_life).exp2();
        spans
            .iter()
            .flat_map(|&(from, to)| (from..to.min(now)).map(|t| f64::from(t) + 0.5))
            .map(weight)
            .sum()
    }

    proptest! {
        #[test]
        fn what_was_used_is_the_decayed_integral(spans in prop::collection::vec((0u32..20_000, 1u32..20_000), 1..6)) {
            let policy = SharePolicy::default();
            let mut scale = UsageScale::new(&policy);
            let moment = |second: u32| Moment::from_micros(i64::from(second) * 1_000_000);
            let now = 25_000;
            let spans: Vec<(u32, u32)> = spans.into_iter().map(|(from, length)| (from, from + length)).collect();
            let mut usage = Usage::default();
            for (from, to) in &spans {
                usage.take(&scale, scale.growth(moment(*from)));
                if *to <= now {
                    usage.give_back(&scale, scale.growth(moment(*to)));
                }
            }
            let found = usage.recent(&scale, scale.growth(moment(now))).as_secs_f64();
            let wanted = by_hand(&spans, now, policy.half_life.as_secs_f64());
            prop_assert!((found - wanted).abs() <= wanted * 1e-6 + 1e-3, "{} is not {}", found, wanted);
            // Moving the origin changes nothing.
            scale.origin = moment(0);
            let far = Moment::from_micros(i64::from(now) * 1_000_000 + 500 * 3_600_000_000);
            let mut moved = scale;
            let by = moved.shift(far).expect("far enough");
            let mut shifted = usage;
            shifted.shift(by);
            let (a, b) = (usage.recent(&scale, scale.growth(far)), shifted.recent(&moved, moved.growth(far)));
            prop_assert!(a.abs_diff(b) < Duration::from_millis(1), "{a:?} {b:?}");
        }
    }
}
