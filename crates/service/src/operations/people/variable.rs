//! Environment variables of the jobs of a place.

use super::grant::at;
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::validation::check_variable;
use pennine_core::access::{Action, place_name};
use pennine_store::{audit, place_variable};
use pennine_wire::{NewPlaceVariable, PlaceVariable, PlaceVariableRemoval};
use serde_json::json;

/// The most variables of a place, and the most bytes of their names and values.
const MOST: i64 = 200;
const MOST_BYTES: i64 = 64 << 10;
/// Names that the runner sets itself begin so.
const RESERVED: &str = "PENNINE_";

/// Sets a variable of a place. Jobs that are assigned from now on get it.
///
/// # Errors
/// Invalid where the name is not one of a variable, or there would be too many.
pub async fn set(app: &App, who: &Principal, new: NewPlaceVariable) -> Result<PlaceVariable> {
    check_variable("name", &new.name, &new.value)?;
    if new.name.starts_with(RESERVED) {
        let message = format!("names that begin with {RESERVED} are set by the runner");
        return Err(ServiceError::invalid("name", message));
    }
    commit(app, async |connection| {
        let place = at(connection, who, &new.place).await?;
        let permit = who.require(Action::ManageVariables, &place.path)?;
        let (now, id) = (app.clock.now(), place.id.0);
        let before =
            place_variable::set(connection, id, &new.name, &new.value, now, &who.name).await?;
        let (count, bytes) = place_variable::size(connection, id).await?;
        if count > MOST || bytes > MOST_BYTES {
            let message = format!(
                "a place has at most {MOST} variables, and 64 KiB of them; {} would have {count}, and {bytes} bytes",
                place_name(&place.path)
            );
            return Err(ServiceError::invalid("value", message));
        }
        let detail = json!({"before": before, "after": new.value});
        audit::write(connection, now, &permit, "variable.set", &new.name, detail).await?;
        Ok(PlaceVariable {
            place: place.path,
            name: new.name.clone(),
            value: new.value.clone(),
            set_at: now,
            set_by: who.name.clone(),
        })
    })
    .await
}

/// Removes a variable of a place.
///
/// # Errors
/// Unknown where the place has none with this name.
pub async fn remove(app: &App, who: &Principal, removal: PlaceVariableRemoval) -> Result<()> {
    commit(app, async |connection| {
        let place = at(connection, who, &removal.place).await?;
        let permit = who.require(Action::ManageVariables, &place.path)?;
        let name = &removal.name;
        if !place_variable::remove(connection, place.id.0, name).await? {
            return Err(ServiceError::unknown("variable", name)
                .remedy("pennine variable list shows the known ones"));
        }
        let now = app.clock.now();
        Ok(audit::write(connection, now, &permit, "variable.remove", name, json!({})).await?)
    })
    .await
}
