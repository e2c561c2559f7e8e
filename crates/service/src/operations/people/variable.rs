//! Environment variables of the jobs of a place or of a pool.

use super::setting_owner::{Owner, check_name, owner};
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::validation::check_variable;
use pennine_core::access::Action;
use pennine_store::{audit, variable};
use pennine_wire::{NewVariable, Variable, VariableRemoval};
use serde_json::json;

/// The most variables of a place or a pool, and the most bytes of their names and values.
const MOST: i64 = 200;
const MOST_BYTES: i64 = 64 << 10;

/// Sets a variable of a place or of a pool. Jobs that are assigned from now on get it.
///
/// # Errors
/// Invalid where the name is not one of a variable, or there would be too many.
pub async fn set(app: &App, who: &Principal, new: NewVariable) -> Result<Variable> {
    check_name(&new.name)?;
    check_variable("name", &new.name, &new.value)?;
    commit(app, async |connection| {
        let whose = owner(connection, who, &new.place, new.pool.as_deref()).await?;
        let Owner { id, place, called } = whose;
        let permit = who.require(Action::ManageVariables, &place)?;
        let now = app.clock.now();
        let before = variable::set(connection, id, &new.name, &new.value, now, &who.name).await?;
        let (count, bytes) = variable::size(connection, id).await?;
        if count > MOST || bytes > MOST_BYTES {
            let message = format!(
                "a place or a pool has at most {MOST} variables, and 64 KiB of them; {called} would have {count}, and {bytes} bytes"
            );
            return Err(ServiceError::invalid("value", message));
        }
        let detail = json!({"pool": new.pool, "before": before, "after": new.value});
        audit::write(connection, now, &permit, "variable.set", &new.name, detail).await?;
        Ok(Variable {
            place,
            pool: new.pool.clone(),
            name: new.name.clone(),
            value: new.value.clone(),
            set_at: now,
            set_by: who.name.clone(),
        })
    })
    .await
}

/// Removes a variable of a place or of a pool.
///
/// # Errors
/// Unknown where it has none with this name.
pub async fn remove(app: &App, who: &Principal, removal: VariableRemoval) -> Result<()> {
    commit(app, async |connection| {
        let whose = owner(connection, who, &removal.place, removal.pool.as_deref()).await?;
        let Owner { id, place, called } = whose;
        let permit = who.require(Action::ManageVariables, &place)?;
        let name = &removal.name;
        let Some(before) = variable::remove(connection, id, name).await? else {
            return Err(ServiceError::unknown("variable", name)
                .remedy(format!("pennine variable list shows those of {called}")));
        };
        let now = app.clock.now();
        let detail = json!({"pool": removal.pool, "before": before});
        Ok(audit::write(connection, now, &permit, "variable.remove", name, detail).await?)
    })
    .await
}
