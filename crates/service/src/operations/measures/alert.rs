//! Alerts: what people are told of.

use crate::access::{Principal, Role};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::views::measures::alert::{number, shown};
use pennine_core::alert::Thresholds;
use pennine_core::lifecycle::alert::AlertState;
use pennine_store::alert::{self, Alert as Row};
use pennine_store::{Connection, audit};
use pennine_wire::{Alert, ThresholdsChange};
use serde_json::json;

/// Change from when on people are told.
pub async fn change_thresholds(
    app: &App,
    who: &Principal,
    change: ThresholdsChange,
) -> Result<Thresholds> {
    who.require(Role::Operator)?;
    commit(app, async |connection| {
        let changed = change.over(alert::thresholds(connection).await?);
        changed
            .check()
            .map_err(|(field, said)| ServiceError::invalid(field, said))?;
        alert::set_thresholds(connection, changed).await?;
        let (at, detail) = (app.clock.now(), json!(changed));
        audit::write(
            connection,
            at,
            &who.name,
            "alert.thresholds",
            "alerts",
            detail,
        )
        .await?;
        Ok(changed)
    })
    .await
}

/// Say that somebody looks at an alert: it is shown more quietly from then on.
pub async fn see(app: &App, who: &Principal, name: &str) -> Result<Alert> {
    who.require(Role::Operator)?;
    commit(app, async |connection| {
        let number = number(name)?;
        let find = async |connection: &mut Connection| -> Result<Row> {
            let found = alert::numbered(connection, number).await?;
            found.ok_or_else(|| ServiceError::unknown("alert", name))
        };
        let row = find(connection).await?;
        if row.state.0 == AlertState::Over {
            let said = format!("{name} is over");
            return Err(ServiceError::conflict(
                "wrong-state",
                "There is nothing to look at",
                said,
            ));
        }
        let now = app.clock.now();
        // Somebody was first: that is no error.
        if alert::see(connection, row.id, &who.name, now).await? {
            let detail = json!({"said": row.said});
            audit::write(connection, now, &who.name, "alert.see", name, detail).await?;
        }
        let row = find(connection).await?;
        shown(row).ok_or_else(|| ServiceError::unknown("alert", name))
    })
    .await
}
