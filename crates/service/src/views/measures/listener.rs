//! Listeners: who else is told.

use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_store::Connection;
use pennine_store::listener::{self, Listener as Row};
use pennine_wire::{Listener, ListenerTrouble, Page};

pub fn shown(row: Row) -> Listener {
    let trouble = row.trouble.zip(row.failing_since).zip(row.retry_at);
    Listener {
        name: row.name,
        url: row.url,
        kinds: row.kinds,
        paused: row.paused,
        sent: row.sent.max(0).unsigned_abs(),
        sent_at: row.sent_at.map(|at| at.0),
        trouble: trouble.map(|((said, since), retry_at)| ListenerTrouble {
            said,
            since: since.0,
            tries: row.tries.max(0).unsigned_abs(),
            retry_at: retry_at.0,
        }),
        former_until: row.former_until.map(|at| at.0),
        created_at: row.created_at.0,
        created_by: row.created_by,
    }
}

pub async fn find(connection: &mut Connection, name: &str) -> Result<Row> {
    let rows = listener::list(connection).await?;
    let found = rows.into_iter().find(|row| row.name == name);
    found.ok_or_else(|| ServiceError::unknown("listener", name))
}

/// The listeners.
pub async fn list(app: &App) -> Result<Page<Listener>> {
    let mut connection = app.store.get().await?;
    let rows = listener::list(&mut connection).await?;
    let items = rows.into_iter().map(shown).collect();
    Ok(Page { items, next: None })
}
