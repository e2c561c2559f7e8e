//! How guessing a password is slowed, without ever locking out the person whose password it is.
//!
//! Failures are counted by name and address. Each failure of an address beyond a few doubles the time until it may try the
//! name again. Failures from many addresses slow all addresses from which the name was never signed in, and only those: a
//! person at a usual address is not affected by guesses from elsewhere.

use crate::time::Moment;
use std::time::Duration;

/// Failures that cost nothing: a person mistypes.
const FREE: u32 = 4;
/// The wait after the first failure that costs something; each further failure doubles it.
const FIRST_WAIT: Duration = Duration::from_secs(2);
/// The longest wait.
const LONGEST_WAIT: Duration = Duration::from_secs(300);
/// Failures of a name from all addresses within [`RECENT`] that slow the addresses that are not known.
pub const MANY: u32 = 20;
/// How long failures count for a name.
pub const RECENT: Duration = Duration::from_secs(3600);
/// The time between two tries of all unknown addresses together, once there were many failures.
const BETWEEN: Duration = Duration::from_secs(15);

/// Failed sign-ins: how many, and when the last one was.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Failures {
    pub count: u32,
    pub last: Option<Moment>,
}

/// What is known of sign-ins under a name.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct SignInHistory {
    /// The failures of the address that asks, since its last success.
    pub own: Failures,
    /// Whether the name was signed in from this address before.
    pub is_known: bool,
    /// The recent failures of all addresses.
    pub all: Failures,
}

impl SignInHistory {
    /// Returns how long to wait until a password may be tried; zero where it may be tried now.
    pub fn wait(&self, now: Moment) -> Duration {
        let left = |failures: Failures, wait: Duration| {
            failures
                .last
                .map_or(Duration::ZERO, |last| wait.saturating_sub(now.since(last)))
        };
        let own = left(self.own, after(self.own.count));
        if self.is_known || self.all.count < MANY {
            return own;
        }
        own.max(left(self.all, BETWEEN))
    }
}

/// The wait after this many failures.
fn after(failures: u32) -> Duration {
    match failures.checked_sub(FREE) {
        None | Some(0) => Duration::ZERO,
        Some(beyond) => FIRST_WAIT
            .saturating_mul(1u32.checked_shl(beyond - 1).unwrap_or(u32::MAX))
            .min(LONGEST_WAIT),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(seconds: i64) -> Moment {
        Moment::from_micros(seconds * 1_000_000)
    }

    fn failures(count: u32, last: i64) -> Failures {
        Failures {
            count,
            last: Some(at(last)),
        }
    }

    #[test]
    fn a_few_mistakes_cost_nothing_and_then_the_wait_doubles() {
        let wait = |count| {
            let own = failures(count, 100);
            let history = SignInHistory {
                own,
                ..SignInHistory::default()
            };
            history.wait(at(100)).as_secs()
        };
        assert_eq!([0, 1, 4, 5, 6, 7].map(wait), [0, 0, 0, 2, 4, 8]);
        assert_eq!([12, 13, 40, u32::MAX].map(wait), [256, 300, 300, 300]);
    }

    #[test]
    fn guessing_from_many_addresses_slows_strangers_and_not_the_person() {
        let mut history = SignInHistory {
            own: Failures::default(),
            is_known: false,
            all: failures(MANY, 100),
        };
        assert_eq!(history.wait(at(105)).as_secs(), 10);
        assert_eq!(history.wait(at(115)).as_secs(), 0);
        history.is_known = true;
        assert_eq!(history.wait(at(105)).as_secs(), 0);
    }

    proptest! {
        #[test]
        fn whoever_waits_as_long_as_asked_may_try(count in 0u32..60, all in 0u32..60, is_known: bool, gap in 0i64..400) {
            let history = SignInHistory { own: failures(count, 0), is_known, all: failures(all, 0) };
            let now = at(gap);
            let wait = history.wait(now);
            prop_assert!(wait <= LONGEST_WAIT);
            prop_assert_eq!(history.wait(now + wait), Duration::ZERO);
        }
    }
}
