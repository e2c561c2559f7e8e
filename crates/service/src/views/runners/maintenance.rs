//! Maintenance windows.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::views::pools::pool::VisiblePools;
use pennine_core::time::Moment;
use pennine_store::maintenance;
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

/// Maintenance that is on or to come of the pools that the principal may see and of their runners, the earliest first.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Maintenance>> {
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let mut rows = maintenance::open(&mut connection, now).await?;
    let pools = VisiblePools::read(&mut connection, who).await?;
    rows.retain(|row| pools.includes(row.in_pool.0));
    Ok(Page {
        items: rows.iter().map(|row| shown(row, now)).collect(),
        next: None,
    })
}
