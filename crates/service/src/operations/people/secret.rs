//! Secrets of the jobs of a place or of a pool.

use super::setting_owner::{Owner, check_name, owner};
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::views;
use pennine_core::access::Action;
use pennine_core::secret::requirement_in_pools;
use pennine_core::secret::{SecretText, SecretUses};
use pennine_core::trust::Trust;
use pennine_store::secret::{self, NewSecret as NewRow, StoredValue};
use pennine_store::{Connection, audit, pool};
use pennine_wire::{NewSecret, Secret, SecretRemoval};
use serde_json::json;
use uuid::Uuid;

/// The most secrets of a place or a pool.
const MOST: i64 = 500;
/// The longest value, and the longest reference, in bytes.
const LONGEST: usize = 64 << 10;
const LONGEST_REFERENCE: usize = 500;
/// The most secrets of one job.
const MOST_OF_JOB: usize = 50;

/// The name under which a secret's value is encrypted.
pub fn lock_name(id: Uuid) -> String {
    format!("secret/{id}")
}

/// What is wrong with a secret to be set, by itself.
fn check(new: &NewSecret) -> Result<()> {
    check_name(&new.name)?;
    match (&new.value, &new.reference) {
        (Some(SecretText(value)), None) => {
            if value.is_empty() || value.len() > LONGEST {
                let message = format!(
                    "a value has 1 byte to 64 KiB; this one has {} bytes",
                    value.len()
                );
                return Err(ServiceError::invalid("value", message));
            }
            if value.contains('\0') {
                return Err(ServiceError::invalid(
                    "value",
                    "the value contains a NUL byte",
                ));
            }
        }
        (None, Some(reference)) => {
            if reference.trim().is_empty() || reference.len() > LONGEST_REFERENCE {
                let message = format!("a reference has 1 to {LONGEST_REFERENCE} bytes");
                return Err(ServiceError::invalid("reference", message));
            }
        }
        _ => {
            let message = "give a value, or the reference of a secret in the outside store";
            return Err(ServiceError::invalid("value", message));
        }
    }
    Ok(())
}

/// Sets a secret: a new one, or the next version of the one that is there. Jobs that start from now on get it.
///
/// # Errors
/// Invalid where the name or the value is, where a pool that may receive it does not exist, or where there would be too many.
pub async fn set(app: &App, who: &Principal, new: NewSecret) -> Result<Secret> {
    check(&new)?;
    if new.reference.is_some() && !app.outside_secrets.is_configured() {
        let message = "no program for an outside store is configured";
        return Err(ServiceError::invalid("reference", message)
            .remedy("set secrets.program in the service's configuration, or give a value"));
    }
    commit(app, async |connection| {
        let whose = owner(connection, who, &new.place, new.pool.as_deref()).await?;
        let Owner { id: owner, place: path, called } = whose;
        let permit = who.require(Action::ManageSecrets, &path)?;
        for name in &new.pools {
            let found = pool::find(connection, name).await?;
            if !found.is_some_and(|owned| who.sees_pool(&owned)) {
                return Err(ServiceError::unknown("pool", name).field("pools"));
            }
        }
        let now = app.clock.now();
        let known = secret::lock(connection, owner, &new.name).await?;
        let id = known.unwrap_or_else(|| app.fresh_id());
        let locked = match &new.value {
            Some(SecretText(value)) => {
                let locked = app.encryption.lock(&lock_name(id), value);
                Some(locked.ok_or_else(|| ServiceError::internal("a secret cannot be encrypted"))?)
            }
            None => None,
        };
        let value = match (&locked, &new.reference) {
            (Some(locked), _) => StoredValue::Locked(locked),
            (None, reference) => StoredValue::Reference(reference.as_deref().unwrap_or_default()),
        };
        let row = NewRow {
            id,
            owner,
            name: &new.name,
            value,
            pools: &new.pools,
            at: now,
            by: &who.name,
        };
        let version = secret::set(connection, row).await?;
        if secret::count(connection, owner).await? > MOST {
            let message = format!("{called} would have more than {MOST} secrets");
            return Err(ServiceError::invalid("name", message).remedy("remove some that no job uses"));
        }
        let detail = json!({"version": version, "pool": new.pool, "reference": new.reference, "pools": new.pools});
        audit::write(connection, now, &permit, "secret.set", &new.name, detail).await?;
        Ok(Secret {
            place: path,
            pool: new.pool.clone(),
            name: new.name.clone(),
            version: version.max(0).unsigned_abs(),
            reference: new.reference.clone(),
            pools: new.pools.clone(),
            set_at: now,
            set_by: who.name.clone(),
            used_at: None,
        })
    })
    .await
}

/// Removes a secret.
///
/// # Errors
/// Unknown where the place or the pool has none with this name.
pub async fn remove(app: &App, who: &Principal, removal: SecretRemoval) -> Result<()> {
    commit(app, async |connection| {
        let whose = owner(connection, who, &removal.place, removal.pool.as_deref()).await?;
        let Owner {
            id: owner,
            place: path,
            called,
        } = whose;
        let permit = who.require(Action::ManageSecrets, &path)?;
        let name = &removal.name;
        let Some(version) = secret::remove(connection, owner, name).await? else {
            let mut error = ServiceError::unknown("secret", name).field("name");
            error = error.remedy(format!("pennine secret list shows those of {called}"));
            return Err(error);
        };
        let now = app.clock.now();
        let detail = json!({"version": version, "pool": removal.pool});
        Ok(audit::write(connection, now, &permit, "secret.remove", name, detail).await?)
    })
    .await
}

/// Checks the secrets that a job to be submitted names. Returns its requirement with the pools that may receive them.
///
/// # Errors
/// Invalid where the job is untrusted, or where its project has no such secret and neither has a pool.
pub async fn check_uses(
    connection: &mut Connection,
    who: &Principal,
    project: &str,
    trust: Trust,
    uses: &SecretUses,
    requirement: &str,
) -> Result<String> {
    if uses.is_empty() {
        return Ok(requirement.to_owned());
    }
    trust.check_secrets(uses).map_err(|error| {
        ServiceError::invalid("secrets", error.to_string())
            .remedy("leave the secrets out, or submit the job as trusted")
    })?;
    if uses.len() > MOST_OF_JOB {
        let message = format!("a job has at most {MOST_OF_JOB} secrets");
        return Err(ServiceError::invalid("secrets", message));
    }
    let known = secret::in_effect(connection, project).await?;
    let missing = uses
        .keys()
        .filter(|name| !known.iter().any(|one| one.name == **name));
    let missing: Vec<String> = missing.cloned().collect();
    let mut lists: Vec<Vec<String>> = known
        .iter()
        .filter(|one| uses.contains_key(&one.name))
        .map(|one| one.pools.clone())
        .collect();
    let of_pools = match missing.is_empty() {
        true => Vec::new(),
        false => secret::pools_with(connection, &missing).await?,
    };
    let visible = views::pools::pool::VisiblePools::names(connection, who).await?;
    for name in missing {
        // In these pools alone the job can be given it.
        let pools = of_pools.iter().filter(|one| one.name == name);
        let pools: Vec<String> = pools
            .filter_map(|one| one.pool.clone())
            .filter(|pool| visible.contains(pool))
            .collect();
        if pools.is_empty() {
            let names: Vec<&str> = known.iter().map(|one| one.name.as_str()).collect();
            let known = match names.as_slice() {
                [] => format!("{project} has no secrets"),
                names => format!("secrets of {project}: {}", names.join(", ")),
            };
            let message = format!("unknown secret {name:?}; {known}");
            let remedy =
                format!("correct the name, or set it: pennine secret set {name} --at {project}");
            return Err(ServiceError::invalid("secrets", message).remedy(remedy));
        }
        lists.push(pools);
    }
    Ok(requirement_in_pools(requirement, &lists))
}
