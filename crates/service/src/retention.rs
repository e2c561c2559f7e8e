//! What is old enough is let go: history by whole months, each in an instant; the rest some at a time.
//!
//! Nothing of a job that is still open, or that is not among the sums yet, is ever dropped.

use crate::app::App;
use crate::log_store::LogError;
use pennine_core::time::Moment;
use pennine_store::{Error, alert, audit_seal, log, measure, partition, strand};
use std::time::Duration;

/// Logs that are taken away at once, so that it never takes long.
const LOGS: i64 = 200;
/// Likewise rows.
const ROWS: i64 = 10_000;

/// Lets go what is older than people want it kept. A step that fails for want of space does not keep the others from making
/// some.
pub async fn sweep(app: &App) -> Result<(), LogError> {
    let now = app.clock.now();
    let logs = expire_logs(app, now).await;
    let rows = expire_rows(app, now).await;
    let months = expire_months(app, now).await;
    logs.and(rows).and(months)
}

fn before(now: Moment, days: u64) -> Moment {
    now - Duration::from_secs(days * 86_400)
}

async fn expire_logs(app: &App, now: Moment) -> Result<(), LogError> {
    let expired = before(now, app.config.keep.logs);
    let mut connection = app.store.tasks().await?;
    log::take_away(&mut connection, expired, LOGS).await?;
    let logs = log::with_objects_left(&mut connection, expired, LOGS).await?;
    drop(connection);
    for attempt in logs {
        app.logs.remove_objects(&app.store, attempt).await?;
    }
    Ok(())
}

async fn expire_rows(app: &App, now: Moment) -> Result<(), LogError> {
    let mut connection = app.store.tasks().await?;
    alert::sweep(&mut connection, before(now, app.config.alerts.kept_days)).await?;
    let jobs =
        partition::jobs_over_before(&mut connection, before(now, app.config.keep.jobs)).await?;
    log::forget(&mut connection, jobs, ROWS).await?;
    strand::forget_reasons(&mut connection, jobs, ROWS).await?;
    if measure::forget_offers(&mut connection, jobs, ROWS).await? > 0 {
        measure::note_gone(&mut connection, jobs).await?;
    }
    Ok(())
}

async fn expire_months(app: &App, now: Moment) -> Result<(), LogError> {
    let keep = &app.config.keep;
    let mut connection = app.store.tasks().await?;
    let jobs = partition::jobs_over_before(&mut connection, before(now, keep.jobs)).await?;
    // Whole sealed blocks; their seals are kept.
    let sealed = audit_seal::last(&mut connection).await?;
    let sealed = sealed.map_or(Moment::from_micros(0), |seal| seal.latest.0);
    let audit = before(now, keep.audit).min(sealed);
    drop(connection);
    for (tables, before) in [
        (&partition::OF_JOBS[..], jobs),
        (&partition::OF_LEVELS, before(now, keep.levels)),
        (&partition::OF_SUMS, before(now, keep.sums)),
        (&partition::OF_FEED, before(now, keep.feed)),
        (&partition::OF_AUDIT, audit),
    ] {
        for table in tables {
            drop_months(app, table, before).await?;
        }
    }
    Ok(())
}

/// Drops the expired months of a table; later, if it is being read.
async fn drop_months(app: &App, table: &str, before: Moment) -> Result<(), Error> {
    loop {
        // Waits for a lock for half a second at most, because other users of the table queue behind it.
        let mut connection = app.store.leader().await?;
        match partition::drop_before(&mut connection, table, before).await {
            Ok(Some(name)) => tracing::info!(name, "a month of history has expired"),
            Ok(None) => return Ok(()),
            Err(Error::TooSlow(message)) => {
                tracing::debug!(table, message, "history is in use; it is dropped later");
                return Ok(());
            }
            Err(error) => return Err(error),
        }
    }
}
