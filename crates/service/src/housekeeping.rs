//! What has to be done now and then. The leader does it; every replica keeps its own clock.

use crate::app::App;
use crate::background::Task;
use crate::log_store::LogError;
use crate::operations::jobs::source::place;
use crate::retention;
use pennine_store::{
    bulk, idempotency, log, machine, measure, outbox, partition, rollup, sign_in, source_archive,
    ticket, trial,
};
use std::time::Duration;

/// How often.
const EVERY: Duration = Duration::from_secs(15);
/// How long the answer to a write with an Idempotency-Key is kept.
const KEEP_ANSWERS: Duration = Duration::from_secs(24 * 3600);

/// How long an action on many jobs is remembered.
const KEEP_ACTIONS: Duration = Duration::from_secs(30 * 86_400);

/// Trials that are older than this were left behind by a replica that is not there any more.
const TRIAL_ENDS: Duration = Duration::from_secs(3600);
/// Machines that are forgotten at once, so that it never takes long.
const SWEPT: i32 = 1000;
/// Likewise sums of short stretches.
const SUMS_SWEPT: i64 = 20_000;
/// Likewise files of runs.
const SOURCES_SWEPT: i64 = 100;

/// Keeps things in order until told to stop.
pub async fn run(app: App) {
    loop {
        app.turns.turn(Task::Housekeeping);
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            () = app.stop.cancelled() => return,
        }
        if let Err(error) = once(&app).await {
            tracing::warn!(%error, "housekeeping failed; it is retried in {} s", EVERY.as_secs());
        }
    }
}

async fn once(app: &App) -> Result<(), LogError> {
    let mut connection = app.store.tasks().await?;
    app.clock.not_before(outbox::moment(&mut connection).await?);
    drop(connection);
    if !app.leads() {
        return Ok(());
    }
    // First, because what else is done may need the space that it makes.
    let swept = retention::sweep(app).await;
    let tidied = tidy(app).await;
    swept.and(tidied)
}

async fn tidy(app: &App) -> Result<(), LogError> {
    let now = app.clock.now();
    let mut connection = app.store.tasks().await?;
    partition::ensure(&mut connection, now, now).await?;
    let unfinished = Duration::from_secs(app.config.limits.unfinished_join_hours * 3600);
    if ticket::sweep(&mut connection, now, now - unfinished).await? > 0 {
        app.feed.kick();
    }
    sign_in::sweep(&mut connection, now).await?;
    trial::sweep(&mut connection, now - TRIAL_ENDS).await?;
    let kept = Duration::from_secs(app.config.limits.machine_days * 86_400);
    if machine::sweep(&mut connection, now - kept, SWEPT).await? > 0 {
        measure::note_gone(&mut connection, now - kept).await?;
    }
    let fine = Duration::from_secs(app.config.limits.five_minute_days * 86_400);
    let hours = Duration::from_secs(app.config.limits.hour_days * 86_400);
    rollup::sweep(&mut connection, now - fine, now - hours, SUMS_SWEPT).await?;
    bulk::sweep(&mut connection, now - KEEP_ACTIONS).await?;
    idempotency::sweep(&mut connection, now - KEEP_ANSWERS).await?;
    let files_kept = Duration::from_secs(app.config.limits.source_days * 86_400);
    for source in source_archive::unused(&mut connection, now - files_kept, SOURCES_SWEPT).await? {
        // The bytes first: what is recorded is looked at again.
        app.logs.objects().delete(&place(source)).await?;
        source_archive::remove(&mut connection, source).await?;
    }
    let unsealed = log::unsealed(&mut connection, 100).await?;
    drop(connection);
    for attempt in unsealed {
        app.logs.seal_complete(&app.store, attempt).await?;
    }
    Ok(())
}
