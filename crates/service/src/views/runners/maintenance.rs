//! Maintenance windows.

use crate::app::App;
use crate::error::Result;
use pennine_core::time::Moment;
use pennine_store::{Connection, maintenance};
use pennine_wire::{Maintenance, Page};

pub fn shown(row: &maintenance::Maintenance, now: Moment) -> Maintenance {
    let of = |is: bool| is.then(|| row.of.clone());
    Maintenance {
        name: row.short(),
        pool: of(row.pool_id.is_some()),
        runner: of(row.runner_id.is_some()),
        from: row.from_at.0,
        until: row.until_at.0,
        on: row.is_on(now),
        reason: row.reason.clone(),
        by: row.created_by.clone(),
    }
}

async fn all(connection: &mut Connection, now: Moment) -> Result<Vec<Maintenance>> {
    let rows = maintenance::open(connection, now).await?;
    Ok(rows.iter().map(|row| shown(row, now)).collect())
}

/// Maintenance that is on or to come, the earliest first.
pub async fn list(app: &App) -> Result<Page<Maintenance>> {
    let mut connection = app.store.people().await?;
    let items = all(&mut connection, app.clock.now()).await?;
    Ok(Page { items, next: None })
}
