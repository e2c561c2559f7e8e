//! The one clock: PostgreSQL's time carried on by the local monotonic clock.
//!
//! It never goes back, and it starts no earlier than the last record. Everything in the service that needs the time
//! takes it from here; tests move it forward.

use pennine_core::time::Moment;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

/// The service's clock. Clones are the same clock.
#[derive(Clone, Debug)]
pub struct Clock(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    started: Instant,
    /// The moment at `started`, in microseconds; moved when PostgreSQL's clock is found ahead.
    base: AtomicI64,
    /// How far a test has moved it.
    ahead: AtomicI64,
    last: AtomicI64,
}

impl Clock {
    /// A clock that shows `moment` now.
    pub fn starting_at(moment: Moment) -> Self {
        Clock(Arc::new(Inner {
            started: Instant::now(),
            base: AtomicI64::new(moment.micros()),
            ahead: AtomicI64::new(0),
            last: AtomicI64::new(moment.micros()),
        }))
    }

    fn elapsed(&self) -> i64 {
        i64::try_from(self.0.started.elapsed().as_micros()).unwrap_or(i64::MAX)
    }

    /// The time.
    pub fn now(&self) -> Moment {
        let shown = self.0.base.load(Ordering::Relaxed)
            + self.elapsed()
            + self.0.ahead.load(Ordering::Relaxed);
        let before = self.0.last.fetch_max(shown, Ordering::Relaxed);
        Moment::from_micros(shown.max(before))
    }

    /// Takes note of what PostgreSQL's clock or the last record shows: from now on this one shows no less.
    pub fn not_before(&self, moment: Moment) {
        // The last record may be of a time to which a test has moved this clock.
        let ahead = self.0.ahead.load(Ordering::Relaxed);
        let base = moment.micros().saturating_sub(self.elapsed());
        self.0
            .base
            .fetch_max(base.saturating_sub(ahead), Ordering::Relaxed);
    }

    /// Moves the clock forward: for tests.
    pub fn advance(&self, length: Duration) {
        let micros = i64::try_from(length.as_micros()).unwrap_or(i64::MAX);
        self.0.ahead.fetch_add(micros, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_clock_starts_at_the_given_moment_and_never_goes_back() {
        let start = Moment::from_micros(1_000_000);
        let clock = Clock::starting_at(start);
        let first = clock.now();
        assert!(first >= start);
        clock.advance(Duration::from_secs(60));
        let second = clock.now();
        assert!(second.since(first) >= Duration::from_secs(60));
        clock.not_before(start);
        assert!(clock.now() >= second);
        // What was recorded just now does not move it again.
        clock.not_before(second);
        assert!(clock.now().since(second) < Duration::from_secs(30));
        clock.not_before(second + Duration::from_secs(3600));
        assert!(clock.now().since(second) >= Duration::from_secs(3600));
    }
}
