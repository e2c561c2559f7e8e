//! Roles of the people in a group of the OpenID provider.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use pennine_core::access::Action;
use pennine_store::group_grant;
use pennine_wire::{GroupGrant, Page};

/// The grants at places where the principal manages access, by group and place.
pub async fn list(app: &App, who: &Principal) -> Result<Page<GroupGrant>> {
    let mut connection = app.store.people().await?;
    let rows = group_grant::list(&mut connection, who.sees.paths()).await?;
    let rows = rows
        .into_iter()
        .filter(|row| who.may(Action::ManageAccess, &row.place));
    let items = rows.map(|row| GroupGrant {
        group: row.name,
        role: row.role.0,
        place: row.place,
        granted_at: row.granted_at.0,
        granted_by: row.granted_by,
    });
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}
