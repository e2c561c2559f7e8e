//! Roles of the people in a group of the OpenID provider.

use super::grant::{at, require_grant};
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use pennine_core::access::{Action, Grant, place_name};
use pennine_store::{audit, group_grant};
use pennine_wire::{GroupGrant, GroupGrantRemoval, NewGroupGrant};
use serde_json::json;

/// The longest name of a group, in bytes.
const LONGEST: usize = 200;

/// Gives a group a role at a place, instead of the one that it had there.
///
/// # Errors
/// Invalid where the name is; forbidden where it is more than who grants it has, or where the present role is.
pub async fn grant(app: &App, who: &Principal, new: NewGroupGrant) -> Result<GroupGrant> {
    let name = new.group.trim();
    if name.is_empty() || name.len() > LONGEST || name.chars().any(char::is_control) {
        let message = format!("a group's name has 1 to {LONGEST} bytes and no control characters");
        return Err(ServiceError::invalid("group", message));
    }
    let granted = commit(app, async |connection| {
        let place = at(connection, who, &new.place).await?;
        let grant = Grant {
            role: new.role,
            place: place.path.clone(),
        };
        let permit = require_grant(who, &grant)?;
        let known = group_grant::list(connection, None).await?;
        let before = known
            .iter()
            .find(|one| one.name == name && one.place == place.path);
        if let Some(before) = before {
            let before = Grant {
                role: before.role.0,
                place: place.path.clone(),
            };
            require_grant(who, &before)?;
        }
        let now = app.clock.now();
        group_grant::grant(connection, name, place.id.0, new.role, now, &who.name).await?;
        let before = before.map(|one| one.role.0);
        let detail = json!({"place": place.path, "before": before, "after": new.role});
        audit::write(connection, now, &permit, "group.grant", name, detail).await?;
        Ok(GroupGrant {
            group: name.to_owned(),
            role: new.role,
            place: place.path,
            granted_at: now,
            granted_by: who.name.clone(),
        })
    })
    .await?;
    app.principals.invalidate_all();
    Ok(granted)
}

/// Takes the role of a group at a place away.
///
/// # Errors
/// A conflict where it has none there; forbidden where it is more than who takes it away has.
pub async fn revoke(app: &App, who: &Principal, removal: GroupGrantRemoval) -> Result<()> {
    commit(app, async |connection| {
        let place = at(connection, who, &removal.place).await?;
        who.require(Action::ManageAccess, &place.path)?;
        let name = &removal.group;
        let Some(role) = group_grant::revoke(connection, name, place.id.0).await? else {
            let message = format!("{name} has no role at {}", place_name(&place.path));
            let error = ServiceError::conflict("no-such-grant", "There is no such role", message);
            return Err(error.field("place"));
        };
        let grant = Grant {
            role,
            place: place.path.clone(),
        };
        let permit = require_grant(who, &grant)?;
        let now = app.clock.now();
        let detail = json!({"place": place.path, "before": role});
        Ok(audit::write(connection, now, &permit, "group.revoke", name, detail).await?)
    })
    .await?;
    app.principals.invalidate_all();
    Ok(())
}
