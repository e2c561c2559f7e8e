//! Percentiles by nearest rank: the p-th of n values is the one at place ceil(p * n), counted from the shortest.
//!
//! Where some still wait, their ages so far stand in for them. Such a percentile can only rise, and does not rise any
//! more once all of them are older than it.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use utoipa::ToSchema;

/// A share in thousandths: 950 is the 95th percentile.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Default, Serialize, Deserialize, ToSchema,
)]
#[serde(transparent)]
pub struct PerMille(pub u16);

impl fmt::Display for PerMille {
    /// As a percentage: `95 %`, `99.5 %`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.0 / 10, self.0 % 10) {
            (whole, 0) => write!(f, "{whole} %"),
            (whole, tenth) => write!(f, "{whole}.{tenth} %"),
        }
    }
}

impl FromStr for PerMille {
    type Err = String;

    /// Reads a percentage with at most one digit after the point: `95`, `99.5 %`.
    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("{text:?} is not a percentage such as 95 or 99.5");
        let number = text.trim().trim_end_matches('%').trim_end();
        let (whole, tenth) = number.split_once('.').unwrap_or((number, "0"));
        let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
        if tenth.len() != 1 || whole.is_empty() || !digits(whole) || !digits(tenth) {
            return Err(wrong());
        }
        let whole: u16 = whole.parse().map_err(|_| wrong())?;
        let tenth: u16 = tenth.parse().map_err(|_| wrong())?;
        let share = whole.checked_mul(10).and_then(|all| all.checked_add(tenth));
        share
            .filter(|share| *share <= 1000)
            .map(PerMille)
            .ok_or_else(wrong)
    }
}

/// A value at a rank.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Ranked {
    /// In microseconds.
    pub value: u64,
    /// Whether it can still rise, because a job that is still waiting is not older.
    pub may_rise: bool,
    /// Whether there are too few values for it to be told from the longest: fewer than one above it.
    pub few: bool,
}

/// The value at a quantile of finished values, given with their counts in ascending order, and of the ages of jobs that
/// still wait, in any order. `None` when both are empty.
pub fn nearest(
    share: PerMille,
    settled: impl IntoIterator<Item = (u64, u64)>,
    still: &[u64],
) -> Option<Ranked> {
    let mut all: Vec<(u64, u64)> = settled.into_iter().collect();
    all.extend(still.iter().map(|age| (*age, 1)));
    all.sort_unstable();
    let count: u64 = all.iter().map(|(_, count)| count).sum();
    if count == 0 {
        return None;
    }
    let share = u128::from(share.0.min(1000));
    let place = (share * u128::from(count)).div_ceil(1000).max(1);
    let mut passed = 0u128;
    let mut value = 0;
    for (one, count) in &all {
        value = *one;
        passed += u128::from(*count);
        if passed >= place {
            break;
        }
    }
    Some(Ranked {
        value,
        may_rise: still.iter().any(|age| *age <= value),
        few: (1000 - share) * u128::from(count) < 1000,
    })
}
