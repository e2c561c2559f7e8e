//! Pauses between tries.

use rand::RngExt;
use std::time::Duration;

/// Pauses between tries: longer each time, with jitter, so that a thousand runners do not reconnect at once.
pub struct Backoff(Duration);

const SHORTEST: Duration = Duration::from_millis(100);
const LONGEST: Duration = Duration::from_secs(5);

impl Default for Backoff {
    fn default() -> Self {
        Backoff(SHORTEST)
    }
}

impl Backoff {
    /// Waits a little longer than the last time.
    pub async fn pause(&mut self) {
        let jitter = rand::rng().random_range(0.5..1.0);
        tokio::time::sleep(self.0.mul_f64(jitter)).await;
        self.0 = (self.0 * 2).min(LONGEST);
    }

    /// Whether the next pause is the shortest.
    pub fn is_fresh(&self) -> bool {
        self.0 == SHORTEST
    }

    /// It worked: begin again with short pauses.
    pub fn reset(&mut self) {
        self.0 = SHORTEST;
    }
}
