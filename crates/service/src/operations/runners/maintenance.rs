//! Maintenance windows.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::validation::check_reason;
use crate::views;
use crate::views::runners::maintenance::shown;
use pennine_core::access::Action;
use pennine_core::id::{MaintenanceId, ShortName};
use pennine_store::maintenance::{self, NewMaintenanceRow};
use pennine_store::{audit, place};
use pennine_wire::{Maintenance, NewMaintenance};
use serde_json::json;
use std::time::Duration;

const LONGEST: Duration = Duration::from_secs(90 * 86_400);

/// How far ahead one can be planned.
const AHEAD: Duration = Duration::from_secs(366 * 86_400);

/// Schedule a period in which a pool or a runner accepts no jobs. Running jobs continue.
pub async fn add(app: &App, who: &Principal, new: NewMaintenance) -> Result<Maintenance> {
    check_reason(&new.reason)?;
    let length = Duration::from(new.length_us);
    if length.is_zero() || length > LONGEST {
        let message = "maintenance lasts more than 0 and at most 90 days";
        return Err(ServiceError::invalid("length_us", message));
    }
    let now = app.clock.now();
    // What began before now begins now: nothing is said of the past.
    let from = new.from.unwrap_or(now).max(now);
    if from.since(now) > AHEAD {
        let message = "maintenance is scheduled at most a year ahead";
        return Err(ServiceError::invalid("from", message));
    }
    commit(app, async |connection| {
        let (permit, pool, runner) = match (&new.pool, &new.runner) {
            (Some(name), None) => {
                let found = views::pools::capacity::find(connection, who, name).await;
                let found = found.map_err(|failure| failure.field("pool"))?;
                let permit = who.require(Action::ManageRunner, &found.owner)?;
                (permit, Some(found.pool.id.0), None)
            }
            (None, Some(name)) => {
                let found = views::runners::runner::find(connection, who, name).await;
                let found = found.map_err(|failure| failure.field("runner"))?;
                let owner = place::of_runner(connection, found).await?;
                let permit = who.require(Action::ManageRunner, &owner)?;
                (permit, None, Some(found))
            }
            _ => {
                let message = "maintenance is of one pool or of one runner: name one of them";
                return Err(ServiceError::invalid("pool", message));
            }
        };
        let id = MaintenanceId(app.fresh_id());
        let row = NewMaintenanceRow {
            id,
            pool,
            runner,
            from,
            until: from + length,
            reason: &new.reason,
            by: &who.name,
            at: now,
        };
        maintenance::insert(connection, row).await?;
        let rows = maintenance::open(connection, now).await?;
        let made = rows
            .iter()
            .find(|row| row.id.0 == id)
            .map(|row| shown(row, now));
        let made = made.ok_or_else(|| ServiceError::unknown("maintenance", &id.to_string()))?;
        let detail = json!({"of": new.pool.or(new.runner), "from": made.from, "until": made.until, "reason": made.reason});
        audit::write(
            connection,
            now,
            &permit,
            "maintenance.add",
            &made.name,
            detail,
        )
        .await?;
        Ok(made)
    })
    .await
}

/// End or cancel maintenance.
pub async fn end(app: &App, who: &Principal, text: &str) -> Result<()> {
    let unknown = || ServiceError::unknown("maintenance", text);
    let number = ShortName::Maintenance.number(text).ok_or_else(unknown)?;
    commit(app, async |connection| {
        let now = app.clock.now();
        let owner = maintenance::place(connection, number).await?;
        let owner = owner.filter(|owner| who.sees.includes(owner));
        let permit = who.require(Action::ManageRunner, &owner.ok_or_else(unknown)?)?;
        if !maintenance::end(connection, number, &who.name, now).await? {
            return Err(unknown()
                .remedy("pennine maintenance list shows current and scheduled maintenance"));
        }
        audit::write(connection, now, &permit, "maintenance.end", text, json!({})).await?;
        Ok(())
    })
    .await
}
