//! Alerts.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use pennine_core::alert::Thresholds;
use pennine_core::id::ShortName;
use pennine_core::visibility::Visibility;
use pennine_store::Connection;
use pennine_store::alert::{self, Alert as Row};
use pennine_store::pool;
use pennine_wire::{Alert, AlertAbout, AlertThresholds, Page};
use serde::Deserialize;
use utoipa::IntoParams;

/// Alerts in one answer.
const PAGE: i64 = 100;

pub fn shown(row: Row) -> Option<Alert> {
    Some(Alert {
        name: ShortName::Alert.name(row.number),
        kind: row.kind.0,
        state: row.state.0,
        urgent: row.kind.0.urgent(),
        message: row.message,
        about: serde_json::from_value(row.about).unwrap_or_default(),
        since: row.since.0,
        raised_at: row.raised_at?.0,
        ended_at: row.ended_at.map(|at| at.0),
        acknowledged_by: row.acknowledged_by,
        acknowledged_at: row.acknowledged_at.map(|at| at.0),
    })
}

/// The path of the place that an alert belongs to: its own, or that of the owner of its pool; otherwise the root's.
///
/// # Errors
/// Where the database does not answer.
pub async fn place(connection: &mut Connection, row: &Row) -> Result<String> {
    let about: AlertAbout = serde_json::from_value(row.about.clone()).unwrap_or_default();
    Ok(match (about.place, about.pool) {
        (Some(path), _) => path,
        (None, Some(name)) => {
            let found = pool::find(connection, &name).await?;
            found.map(|pool| pool.owner).unwrap_or_default()
        }
        (None, None) => String::new(),
    })
}

/// Leaves out the alerts of places that are not visible.
pub async fn visible(
    connection: &mut Connection,
    sees: &Visibility,
    rows: Vec<Row>,
) -> Result<Vec<Row>> {
    if sees.is_whole() {
        return Ok(rows);
    }
    let mut visible = Vec::new();
    for row in rows {
        let place = place(connection, &row).await?;
        if sees.includes(&place) {
            visible.push(row);
        }
    }
    Ok(visible)
}

/// Returns the open alerts that this person may see: urgent ones first, then the oldest.
///
/// # Errors
/// Where the database does not answer.
pub async fn now(connection: &mut Connection, who: &Principal) -> Result<Vec<Alert>> {
    let open = alert::open(connection).await?;
    let open = visible(connection, &who.sees, open).await?;
    let mut all: Vec<Alert> = open.into_iter().filter_map(shown).collect();
    all.sort_by_key(|one| {
        (
            !one.urgent,
            one.acknowledged_at.is_some(),
            one.kind,
            one.since,
        )
    });
    Ok(all)
}

/// The query of alerts.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct AlertParams {
    /// Include past alerts, latest first; otherwise only open ones.
    #[serde(default)]
    all: bool,
    /// The `next` of the previous page.
    after: Option<String>,
}

/// Returns the alerts that this person may see.
pub async fn list(app: &App, who: &Principal, params: AlertParams) -> Result<Page<Alert>> {
    let mut connection = app.store.people().await?;
    if !params.all {
        let items = now(&mut connection, who).await?;
        return Ok(Page { items, next: None });
    }
    let before = match &params.after {
        None => None,
        Some(text) => Some(number(text).map_err(|failure| failure.field("after"))?),
    };
    let mut rows = alert::raised(&mut connection, before, PAGE + 1).await?;
    let more = rows.len() as i64 > PAGE;
    rows.truncate(usize::try_from(PAGE).unwrap_or(usize::MAX));
    // A page of what one may not see is empty, and has a next one.
    let last = rows.last().map(|row| ShortName::Alert.name(row.number));
    let rows = visible(&mut connection, &who.sees, rows).await?;
    let items: Vec<Alert> = rows.into_iter().filter_map(shown).collect();
    Ok(Page {
        items,
        next: last.filter(|_| more),
    })
}

/// Returns the thresholds of alerts.
pub async fn thresholds(app: &App) -> Result<AlertThresholds> {
    let mut connection = app.store.people().await?;
    Ok(shown_thresholds(alert::thresholds(&mut connection).await?))
}

pub fn shown_thresholds(thresholds: Thresholds) -> AlertThresholds {
    AlertThresholds {
        settings_version: thresholds.version(),
        thresholds,
    }
}

pub fn number(text: &str) -> Result<i64> {
    ShortName::Alert
        .number(text)
        .ok_or_else(|| ServiceError::unknown("alert", text))
}
