//! Seals the audit log while this replica leads: within a second, as far as nothing below can still come.

use crate::app::App;
use crate::audit_seals::{MOST, seal};
use crate::background::Task;
use pennine_store::audit_seal::{self, Seal};
use pennine_store::outbox::position::Position;
use pennine_store::{Error, PooledConnection};
use std::time::{Duration, Instant};

/// How often there is a look.
const EVERY: Duration = Duration::from_millis(400);
/// How often where a number is missing.
const SOON: Duration = Duration::from_millis(60);
/// The most numbers that are read at once.
const BATCH: i64 = 10_000;

/// What is known while this replica seals.
struct Sealing {
    /// Kept while it works: what is known of transactions is void on another.
    connection: PooledConnection,
    position: Position,
    last: Option<Seal>,
    begun: Instant,
}

/// Seals until told to stop.
pub async fn run(app: App) {
    let mut sealing = None;
    loop {
        app.turns.turn(Task::AuditSeals);
        let rest = match turn(&app, &mut sealing).await {
            Ok(rest) => rest,
            Err(error) => {
                tracing::warn!(%error, "the audit log could not be sealed; it is tried again");
                sealing = None;
                EVERY
            }
        };
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            () = app.stop.cancelled() => return,
        }
    }
}

/// Seals what can be, and returns how long to rest.
async fn turn(app: &App, kept: &mut Option<Sealing>) -> Result<Duration, Error> {
    if !app.leads() {
        *kept = None;
        return Ok(EVERY);
    }
    let sealing = match kept {
        Some(sealing) => sealing,
        None => {
            let mut connection = app.store.tasks().await?;
            let last = audit_seal::last(&mut connection).await?;
            kept.insert(Sealing {
                connection,
                position: audit_seal::beginning(last.as_ref()),
                last,
                begun: Instant::now(),
            })
        }
    };
    let is_all = sealing.read().await?;
    if !sealing.seal(app).await? {
        // Another replica has sealed meanwhile.
        *kept = None;
        return Ok(EVERY);
    }
    Ok(match (is_all, sealing.position.has_gaps()) {
        (false, _) => Duration::ZERO,
        (true, true) => SOON,
        (true, false) => EVERY,
    })
}

impl Sealing {
    /// Reads which entries have come. Returns whether those were all.
    async fn read(&mut self) -> Result<bool, Error> {
        let position = &mut self.position;
        let found = audit_seal::numbers(&mut self.connection, position, BATCH).await?;
        let is_all = (found.len() as i64) < BATCH;
        position.take(&found, is_all, self.begun.elapsed());
        if is_all && position.needs_locks(self.begun.elapsed()) {
            let writers = audit_seal::writers(&mut self.connection).await?;
            position.see_locks(&writers, self.begun.elapsed());
        }
        Ok(is_all)
    }

    /// Seals as far as nothing below can still come. False where another has sealed the same.
    async fn seal(&mut self, app: &App) -> Result<bool, Error> {
        let to = self.position.low();
        loop {
            let after = self.last.as_ref().map_or(0, |seal| seal.last_id);
            if after >= to {
                return Ok(true);
            }
            let range = (after + 1, to);
            let entries = audit_seal::entries(&mut self.connection, range, MOST).await?;
            let next = seal(
                &app.encryption,
                self.last.as_ref(),
                &entries,
                app.clock.now(),
            );
            let Some(next) = next else {
                // Only numbers that were rolled back: the next entry's seal covers them.
                return Ok(true);
            };
            if !audit_seal::insert(&mut self.connection, &next).await? {
                return Ok(false);
            }
            self.last = Some(next);
        }
    }
}
