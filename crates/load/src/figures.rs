//! What was counted, and how it is said.

use hdrhistogram::Histogram;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Counts of a run, shared by all simulated runners and submitters.
pub struct Figures {
    pub submitted: AtomicU64,
    pub finished: AtomicU64,
    pub troubles: AtomicU64,
    to_start: Mutex<Histogram<u64>>,
}

impl Default for Figures {
    fn default() -> Self {
        // Microseconds, up to an hour, to three digits: these bounds are always fine.
        let to_start = Histogram::new_with_bounds(1, 3_600_000_000, 3)
            .unwrap_or_else(|_| Histogram::new_from(&empty()));
        Figures {
            submitted: AtomicU64::new(0),
            finished: AtomicU64::new(0),
            troubles: AtomicU64::new(0),
            to_start: Mutex::new(to_start),
        }
    }
}

fn empty() -> Histogram<u64> {
    Histogram::new(1).unwrap_or_else(|_| unreachable!("one digit is always fine"))
}

impl Figures {
    /// A job was started so long after it was submitted.
    pub fn started(&self, after: Duration) {
        let micros = u64::try_from(after.as_micros()).unwrap_or(u64::MAX);
        self.to_start
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .saturating_record(micros);
    }

    /// Prints progress every ten seconds until the time is over. Returns the rate of the second half, in cycles
    /// a second.
    pub async fn watch(&self, time: Duration) -> f64 {
        let begun = Instant::now();
        let mut last = (begun, self.finished.load(Ordering::Relaxed));
        let mut half = None;
        while begun.elapsed() < time {
            let left = time.saturating_sub(begun.elapsed());
            tokio::time::sleep(left.min(Duration::from_secs(10))).await;
            let now = (Instant::now(), self.finished.load(Ordering::Relaxed));
            if half.is_none() && begun.elapsed() * 2 >= time {
                half = Some(now);
                // What is said of times is said of the second half too.
                self.to_start
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .reset();
            }
            let rate = (now.1 - last.1) as f64 / (now.0 - last.0).as_secs_f64();
            eprintln!(
                "{:>4.0} s  {:>8.0} cycles/s  {:>9} finished  {} troubles",
                begun.elapsed().as_secs_f64(),
                rate,
                now.1,
                self.troubles.load(Ordering::Relaxed)
            );
            last = now;
        }
        let (since, before) = half.unwrap_or((begun, 0));
        let length = since.elapsed().as_secs_f64().max(1e-9);
        (last.1 - before) as f64 / length
    }

    /// The end of a run in a few lines.
    pub fn say(&self, what: &str, rate: f64) {
        let times = self.to_start.lock().unwrap_or_else(PoisonError::into_inner);
        let millis = |quantile: f64| times.value_at_quantile(quantile) as f64 / 1e3;
        println!("{what}: {rate:.0} cycles/s in the second half");
        if !times.is_empty() {
            println!(
                "submitted to started, in the second half: p50 {:.1} ms, p99 {:.1} ms, worst {:.1} ms ({} jobs)",
                millis(0.5),
                millis(0.99),
                millis(1.0),
                times.len()
            );
        }
    }
}
