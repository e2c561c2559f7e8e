//! Alerts.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use pennine_core::alert::Thresholds;
use pennine_core::id::ShortName;
use pennine_store::Connection;
use pennine_store::alert::{self, Alert as Row};
use pennine_wire::{Alert, AlertThresholds, Page};
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

/// Returns the open alerts: urgent ones first, then the oldest.
pub async fn now(connection: &mut Connection) -> pennine_store::Result<Vec<Alert>> {
    let open = alert::open(connection).await?;
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

/// Returns the alerts.
pub async fn list(app: &App, params: AlertParams) -> Result<Page<Alert>> {
    let mut connection = app.store.get().await?;
    if !params.all {
        let items = now(&mut connection).await?;
        return Ok(Page { items, next: None });
    }
    let before = match &params.after {
        None => None,
        Some(text) => Some(number(text).map_err(|failure| failure.field("after"))?),
    };
    let rows = alert::raised(&mut connection, before, PAGE + 1).await?;
    let more = rows.len() as i64 > PAGE;
    let page = usize::try_from(PAGE).unwrap_or(usize::MAX);
    let items: Vec<Alert> = rows.into_iter().take(page).filter_map(shown).collect();
    let last = items.last().map(|one| one.name.clone());
    Ok(Page {
        items,
        next: last.filter(|_| more),
    })
}

/// Returns the thresholds of alerts.
pub async fn thresholds(app: &App) -> Result<AlertThresholds> {
    let mut connection = app.store.get().await?;
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
