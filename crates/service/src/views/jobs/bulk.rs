//! Actions on many jobs that go on in the background.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use pennine_core::id::ShortName;
use pennine_core::visibility::Visibility;
use pennine_store::Connection;
use pennine_store::bulk::{self, BulkRow};
use pennine_store::waiting_line::LineFilter;
use pennine_wire::{BulkAction, BulkProgress, Page};

/// Actions in the list.
const LISTED: i64 = 20;

/// Returns an action as people read it.
///
/// # Errors
/// Where what is stored of it cannot be read.
pub fn shown(row: BulkRow) -> Result<BulkProgress> {
    let count = |number: i64| number.max(0).unsigned_abs();
    Ok(BulkProgress {
        name: ShortName::BulkAction.name(row.number),
        request: request(&row)?,
        state: row.state.0,
        by: row.created_by,
        created_at: row.created_at.0,
        found: row.found.map(count),
        handled: count(row.handled),
        changed: count(row.changed),
        ended_at: row.ended_at.map(|at| at.0),
        message: row.message,
    })
}

/// Returns what was asked for.
///
/// # Errors
/// Where it cannot be read.
pub fn request(row: &BulkRow) -> Result<BulkAction> {
    serde_json::from_value(row.request.0.clone()).map_err(|error| ServiceError::ours(&error))
}

/// Returns the action with this short name.
///
/// # Errors
/// Where there is none.
pub async fn find(connection: &mut Connection, name: &str) -> Result<BulkRow> {
    let unknown = || ServiceError::unknown("bulk-action", name);
    let number = ShortName::BulkAction.number(name).ok_or_else(unknown)?;
    let row = bulk::find(connection, number).await?;
    row.ok_or_else(unknown)
}

/// The part of the queue that a request means.
///
/// # Errors
/// Where its place or its requirement does not exist or cannot be read.
pub async fn filter(
    connection: &mut Connection,
    sees: &Visibility,
    request: &BulkAction,
) -> Result<LineFilter> {
    let place = (request.project.as_deref(), request.team.as_deref());
    let mut meant = views::jobs::queue::filter(
        connection,
        sees,
        None,
        place,
        request.requirement.as_deref(),
    )
    .await?;
    meant.reason = request.reason;
    meant.cause.clone_from(&request.cause);
    Ok(meant)
}

/// Whether the principal may see an action: it is their own, or of a team or project that they see.
pub fn is_visible(who: &Principal, action: &BulkProgress) -> bool {
    let request = &action.request;
    let place = request.project.as_deref().or(request.team.as_deref());
    who.sees.includes(place.unwrap_or_default()) || action.by == who.name
}

/// The latest actions that the principal may see, the newest first.
pub async fn list(app: &App, who: &Principal) -> Result<Page<BulkProgress>> {
    let mut connection = app.store.people().await?;
    let rows = bulk::latest(&mut connection, LISTED).await?;
    let all: Vec<BulkProgress> = rows.into_iter().map(shown).collect::<Result<_>>()?;
    let visible = all.into_iter().filter(|action| is_visible(who, action));
    Ok(Page {
        items: visible.collect(),
        next: None,
    })
}

/// One action.
pub async fn show(app: &App, who: &Principal, name: &str) -> Result<BulkProgress> {
    let mut connection = app.store.people().await?;
    let found = shown(find(&mut connection, name).await?)?;
    Some(found)
        .filter(|action| is_visible(who, action))
        .ok_or_else(|| ServiceError::unknown("bulk-action", name))
}
