//! The place or the pool whose variable or secret a request is about.

use super::grant::at;
use crate::access::Principal;
use crate::error::{Result, ServiceError};
use crate::validation::check_variable;
use pennine_core::access::place_name;
use pennine_store::setting_owner::SettingOwner;
use pennine_store::{Connection, pool};

/// Names that the runner sets itself begin so.
const RESERVED: &str = "PENNINE_";

/// Whose a variable or a secret is.
pub struct Owner {
    pub id: SettingOwner,
    /// The path of the place, or of the place that owns the pool.
    pub place: String,
    /// What people call it.
    pub called: String,
}

/// Returns the place or the pool that a request names.
///
/// # Errors
/// Unknown where it is not visible; invalid where both are named.
pub async fn owner(
    connection: &mut Connection,
    who: &Principal,
    place: &str,
    pool: Option<&str>,
) -> Result<Owner> {
    let Some(name) = pool else {
        let found = at(connection, who, place).await?;
        return Ok(Owner {
            id: SettingOwner::Place(found.id.0),
            called: place_name(&found.path).to_owned(),
            place: found.path,
        });
    };
    if !place.is_empty() {
        let message = "give a place or a pool, not both";
        return Err(ServiceError::invalid("pool", message));
    }
    let found = pool::find(connection, name).await?;
    let visible = found.filter(|owned| who.sees_pool(owned));
    let owned = visible.ok_or_else(|| ServiceError::unknown("pool", name).field("pool"))?;
    Ok(Owner {
        id: SettingOwner::Pool(owned.pool.id.0),
        place: owned.owner,
        called: format!("the pool {name}"),
    })
}

/// Refuses names that cannot be variables of a job.
///
/// # Errors
/// Invalid, at the field `name`.
pub fn check_name(name: &str) -> Result<()> {
    check_variable("name", name, "")?;
    if name.starts_with(RESERVED) {
        let message = format!("names that begin with {RESERVED} are set by the runner");
        return Err(ServiceError::invalid("name", message));
    }
    Ok(())
}
