//! Alerts.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::views::measures::alert::{number, shown, shown_thresholds};
use pennine_core::access::Action;
use pennine_core::lifecycle::alert::AlertState;
use pennine_store::alert::{self, Alert as Row};
use pennine_store::change_lock::lock_for_change;
use pennine_store::{Connection, audit};
use pennine_wire::{Alert, AlertThresholds, ThresholdsChange};
use serde_json::json;

/// Changes the thresholds of alerts.
pub async fn change_thresholds(
    app: &App,
    who: &Principal,
    change: ThresholdsChange,
    expected: &ExpectedVersion,
) -> Result<AlertThresholds> {
    let permit = who.require(Action::ChangeThresholds, "")?;
    commit(app, async |connection| {
        lock_for_change(connection, "alerts", "thresholds").await?;
        let before = alert::thresholds(connection).await?;
        expected
            .check(connection, &before, "alert.thresholds", "alerts")
            .await?;
        let changed = change.over(before);
        changed
            .check()
            .map_err(|(field, message)| ServiceError::invalid(field, message))?;
        alert::set_thresholds(connection, changed).await?;
        let (at, detail) = (app.clock.now(), json!(changed));
        audit::write(
            connection,
            at,
            &permit,
            "alert.thresholds",
            "alerts",
            detail,
        )
        .await?;
        Ok(shown_thresholds(changed))
    })
    .await
}

/// Acknowledges an alert: it is shown less prominently.
pub async fn acknowledge(app: &App, who: &Principal, name: &str) -> Result<Alert> {
    commit(app, async |connection| {
        let number = number(name)?;
        let find = async |connection: &mut Connection| -> Result<Row> {
            let found = alert::numbered(connection, number).await?;
            found.ok_or_else(|| ServiceError::unknown("alert", name))
        };
        let row = find(connection).await?;
        let place = crate::views::measures::alert::place(connection, &row).await?;
        if !who.sees.includes(&place) {
            return Err(ServiceError::unknown("alert", name));
        }
        let permit = who.require(Action::AcknowledgeAlert, &place)?;
        if row.state.0 == AlertState::Ended {
            let message = format!("{name} has ended");
            return Err(ServiceError::conflict(
                "wrong-state",
                "The alert has ended",
                message,
            ));
        }
        let now = app.clock.now();
        // Acknowledged before: that is no error.
        if alert::see(connection, row.id, &who.name, now).await? {
            let detail = json!({"message": row.message});
            audit::write(connection, now, &permit, "alert.acknowledge", name, detail).await?;
        }
        let row = find(connection).await?;
        shown(row).ok_or_else(|| ServiceError::unknown("alert", name))
    })
    .await
}
