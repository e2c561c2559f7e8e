//! How much log each runner has sent in the last day: as recorded, and what this replica has taken in since it looked.

use pennine_core::id::RunnerId;
use pennine_core::time::Moment;
use pennine_store::{Connection, log};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// What counts.
const DAY: Duration = Duration::from_secs(86_400);
/// After this the record is asked again: what is older than a day no longer counts, and other replicas have taken logs too.
const AGAIN: Duration = Duration::from_secs(600);
/// Runners are remembered up to this many.
const KNOWN: u64 = 50_000;

/// See the module's head.
pub struct LogVolumes(moka::sync::Cache<RunnerId, Arc<AtomicU64>>);

impl Default for LogVolumes {
    fn default() -> Self {
        let known = moka::sync::Cache::builder()
            .max_capacity(KNOWN)
            .time_to_live(AGAIN);
        LogVolumes(known.build())
    }
}

impl LogVolumes {
    /// Returns the bytes that a runner has sent in the day before `now`.
    pub async fn of(
        &self,
        connection: &mut Connection,
        runner: RunnerId,
        now: Moment,
    ) -> pennine_store::error::Result<u64> {
        if let Some(known) = self.0.get(&runner) {
            return Ok(known.load(Ordering::Relaxed));
        }
        let bytes = log::bytes_of_runner(connection, runner, now - DAY).await?;
        self.0.insert(runner, Arc::new(AtomicU64::new(bytes)));
        Ok(bytes)
    }

    /// Counts bytes that a runner has sent.
    pub fn add(&self, runner: RunnerId, bytes: usize) {
        if let Some(known) = self.0.get(&runner) {
            known.fetch_add(bytes as u64, Ordering::Relaxed);
        }
    }
}
