//! What granting a role takes, to a person or a token.

use crate::access::Principal;
use crate::error::{Result, ServiceError};
use crate::views;
use pennine_core::access::{Action, Grant, may_grant, place_name};
use pennine_store::audit::Permit;
use pennine_store::{Connection, place};

/// Returns the place with this path; the root's is empty.
pub async fn at(connection: &mut Connection, who: &Principal, path: &str) -> Result<place::Place> {
    if path.is_empty() {
        return Ok(place::root(connection).await?);
    }
    let kinds = ["team", "project"];
    let found = views::people::place::find(connection, &who.sees, &kinds, "place", path);
    found.await.map_err(|failure| failure.field("place"))
}

/// Refuses a grant of more than who grants it has.
pub fn require_grant(who: &Principal, grant: &Grant) -> Result<Permit> {
    let permit = who.require(Action::ManageAccess, &grant.place)?;
    if may_grant(&who.rights, grant) {
        return Ok(permit);
    }
    let message = format!(
        "a role can be granted only by a person or token that has it: you do not have {} at {}",
        grant.role,
        place_name(&grant.place)
    );
    Err(ServiceError::forbidden("role-needed", "This is not permitted", message).field("role"))
}
