//! Listeners.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use pennine_core::access::Action;
use pennine_store::Connection;
use pennine_store::listener::{self, Listener as Row};
use pennine_wire::{Listener, ListenerFailure, Page};

pub fn shown(row: Row) -> Listener {
    let settings_version = row.version();
    let failure = row.failure.zip(row.failing_since).zip(row.retry_at);
    Listener {
        settings_version,
        name: row.name,
        url: row.url,
        kinds: row.kinds,
        paused: row.paused,
        sent: row.sent.max(0).unsigned_abs(),
        sent_at: row.sent_at.map(|at| at.0),
        failure: failure.map(|((message, since), retry_at)| ListenerFailure {
            message,
            since: since.0,
            tries: row.tries.max(0).unsigned_abs(),
            retry_at: retry_at.0,
        }),
        previous_until: row.previous_until.map(|at| at.0),
        created_at: row.created_at.0,
        created_by: row.created_by,
    }
}

pub async fn find(connection: &mut Connection, name: &str) -> Result<Row> {
    let rows = listener::list(connection).await?;
    let found = rows.into_iter().find(|row| row.name == name);
    found.ok_or_else(|| ServiceError::unknown("listener", name))
}

/// The listeners. Addresses may hold secrets of the receiver: only operators see more of them than the host.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Listener>> {
    let mut connection = app.store.people().await?;
    let rows = listener::list(&mut connection).await?;
    let mut items: Vec<Listener> = rows.into_iter().map(shown).collect();
    if !who.may(Action::ReadDeliveries, "") {
        for item in &mut items {
            item.url = host_of(&item.url);
        }
    }
    Ok(Page { items, next: None })
}

/// An address without its path and query.
fn host_of(url: &str) -> String {
    let Ok(parsed) = reqwest::Url::parse(url) else {
        return String::new();
    };
    format!("{}/…", parsed.origin().ascii_serialization())
}
