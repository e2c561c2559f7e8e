//! What the leader does again and again beside dispatch. Each piece of work rests in proportion to how long it took, so that
//! it never takes more than its share of the time, however much there is to do.

use crate::app::App;
use crate::background::Task;
use std::fmt;
use std::time::{Duration, Instant};

/// A task pauses for this multiple of its duration, so that it takes at most a twentieth of the time.
const REST: u32 = 19;

/// When a piece of work is done.
#[derive(Clone, Copy, Debug)]
pub struct Schedule {
    /// How soon at first.
    pub first: Duration,
    /// How long it rests at least.
    pub every: Duration,
    /// How long it rests at most, however long it took.
    pub longest: Duration,
}

impl Schedule {
    fn rest(&self, took: Duration) -> Duration {
        (took * REST).clamp(self.every, self.every.max(self.longest))
    }
}

/// A piece of work.
pub trait RecurringTask: Send {
    type Error: fmt::Display;

    /// What it is, for the log.
    const WHAT: &'static str;
    /// The background task that does it.
    const TASK: Task;

    /// Does it once, as far as there is something to do.
    fn round(&mut self) -> impl Future<Output = Result<(), Self::Error>> + Send;
}

/// Does a piece of work at its pace, for as long as this replica leads, until told to stop. Where it does not get through,
/// that is said once, and it is retried.
pub async fn run_while_leading<T: RecurringTask>(app: App, pace: Schedule, mut task: T) {
    let mut failing = false;
    let mut rest = pace.first;
    loop {
        app.turns.turn(T::TASK);
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            () = app.stop.cancelled() => return,
        }
        if !app.leads() {
            continue;
        }
        let begun = Instant::now();
        let done = task.round().await;
        rest = pace.rest(begun.elapsed());
        match done {
            Ok(()) if std::mem::take(&mut failing) => tracing::info!("{}: working again", T::WHAT),
            Ok(()) => {}
            Err(error) => {
                if !std::mem::replace(&mut failing, true) {
                    tracing::warn!(%error, "{}: failed, and is retried", T::WHAT);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_takes_a_twentieth_of_the_time_within_bounds() {
        let pace = Schedule {
            first: Duration::ZERO,
            every: Duration::from_secs(3),
            longest: Duration::from_secs(60),
        };
        for (took, rest) in [(0, 3), (100, 3), (1_000, 19), (9_000, 60)] {
            let rested = pace.rest(Duration::from_millis(took));
            assert_eq!(rested, Duration::from_secs(rest), "{took} ms");
        }
    }
}
