//! Pools.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::{ExpectedVersion, Versioned};
use crate::validation::{check_description, check_labels, check_name};
use crate::views::pools::pool::shown;
use crate::yard::Yard;
use crate::{operations, views};
use pennine_core::access::Action;
use pennine_core::capacity::Supply;
use pennine_core::id::PoolId;
use pennine_core::job_policy::{InvalidLimit, JobLimits, JobPolicy};
use pennine_core::requirement::Requirement;
use pennine_core::size::ByteSize;
use pennine_core::visibility::Visibility;
use pennine_store::change_lock::lock_for_change;
use pennine_store::pool::{self, OwnedPool};
use pennine_store::runner::{self, Runner};
use pennine_store::types::Json as Jsonb;
use pennine_store::{Connection, Db, audit, place};
use pennine_wire::{ChangedPool, JobPolicyChange, NewPool, Pool, PoolChange, PoolRemoval};
use serde_json::json;

/// Add a pool.
pub async fn add(app: &App, who: &Principal, new: NewPool) -> Result<Pool> {
    check_name("name", &new.name)?;
    check_description(&new.description)?;
    commit(app, async |connection| {
        let like = match new.like.as_deref() {
            None => None,
            Some(like) => Some(
                views::pools::capacity::find(connection, who, like)
                    .await
                    .map_err(|failure| failure.field("like"))?,
            ),
        };
        let owner = match (new.owner.as_deref(), &like) {
            (None, Some(like)) => (like.pool.owner_id, like.owner.clone()),
            (None | Some(""), _) => {
                let root = place::root(connection).await?;
                (root.id, root.path)
            }
            (Some(path), _) => {
                let kinds = ["team", "project"];
                let found =
                    views::people::place::find(connection, &who.sees, &kinds, "team", path);
                let owner = found.await.map_err(|f| f.field("owner"))?;
                (owner.id, owner.path)
            }
        };
        let permit = who.require(Action::ManagePool, &owner.1)?;
        let like = like.map(|like| like.pool);
        let mut row = pool::Pool {
            id: Db(PoolId(app.fresh_id())),
            name: new.name.clone(),
            description: new.description,
            owner_id: owner.0,
            labels: check_labels("labels", &new.labels)?,
            open: new
                .open
                .unwrap_or(like.as_ref().is_none_or(|like| like.open)),
            policy_version: 1,
            created_at: Db(app.clock.now()),
            narrow_to: Vec::new(),
            widen_to: Vec::new(),
            takes_untrusted: false,
            asks_approval: false,
            approved: Vec::new(),
            paused: false,
            needs: check_needs(new.needs.as_deref().unwrap_or_default())?,
            supply: None,
            jobs: Jsonb(changed_jobs(
                like.as_ref().map(|like| like.jobs.0).unwrap_or_default(),
                new.jobs.as_ref(),
            )?),
        };
        let like_supply = like.as_ref().and_then(|like| like.supply.clone());
        row.supply = operations::pools::capacity::changed(
            connection,
            like_supply.map(|supply| supply.0),
            new.supply.as_ref(),
        )
        .await?
        .map(Jsonb);
        if let Some(like) = like {
            fill_in(&mut row, like, new.needs.is_none());
        }
        match pool::insert(connection, &row, &who.name).await {
            Err(pennine_store::Error::Duplicate(_)) => {
                let message = format!("a pool {:?} already exists", new.name);
                return Err(ServiceError::taken(message));
            }
            other => other?,
        }
        if let Some(Jsonb(wanted)) = &row.supply {
            operations::pools::capacity::set_price(connection, row.id.0, wanted, row.created_at.0)
                .await?;
        }
        let detail = json!({"labels": row.labels, "open": row.open, "owner": owner.1, "needs": row.needs, "jobs": row.jobs.0, "supply": row.supply.as_ref().map(|supply| &supply.0)});
        audit::write(
            connection,
            row.created_at.0,
            &permit,
            "pool.add",
            &row.name,
            detail,
        )
        .await?;
        Ok(shown(
            &OwnedPool {
                pool: row,
                owner: owner.1,
                standing: None,
            },
            &[],
        ))
    })
    .await
}

/// Takes what a new pool does not name from the one that it is like.
fn fill_in(row: &mut pool::Pool, like: pool::Pool, takes_needs: bool) {
    if row.description.is_empty() {
        row.description = like.description;
    }
    if row.labels.is_empty() {
        row.labels = like.labels;
    }
    if takes_needs {
        row.needs = like.needs;
    }
    // Who it was narrowed to may lie outside of another owner's reach.
    if row.owner_id == like.owner_id {
        (row.narrow_to, row.widen_to) = (like.narrow_to, like.widen_to);
    }
}

/// What a machine has to be, checked, as the language writes it.
fn check_needs(text: &str) -> Result<String> {
    let parsed: Requirement = text
        .parse()
        .map_err(|error| ServiceError::requirement("needs", error))?;
    Ok(if parsed.is_any() {
        String::new()
    } else {
        parsed.to_string()
    })
}

/// What jobs may reach and use after a change.
fn changed_jobs(before: JobPolicy, change: Option<&JobPolicyChange>) -> Result<JobPolicy> {
    let change = change.copied().unwrap_or_default();
    let mut next = before;
    next.isolation = change.isolation.unwrap_or(before.isolation);
    next.network = change.network.unwrap_or(before.network);
    let size = |given: Option<ByteSize>, before| match given {
        Some(given) => Some(given).filter(|size| size.0 > 0),
        None => before,
    };
    let count = |given: Option<u32>, before| match given {
        Some(given) => Some(given).filter(|count| *count > 0),
        None => before,
    };
    next.limits = JobLimits {
        memory: size(change.memory, before.limits.memory),
        processes: count(change.processes, before.limits.processes),
        cores: count(change.cores, before.limits.cores),
        disk: size(change.disk, before.limits.disk),
    };
    next.limits.check().map_err(|error| {
        let field = match error {
            InvalidLimit::Memory => "jobs.memory",
            InvalidLimit::Processes => "jobs.processes",
            InvalidLimit::Cores => "jobs.cores",
            InvalidLimit::Disk => "jobs.disk",
        };
        ServiceError::invalid(field, error.to_string())
    })?;
    Ok(next)
}

async fn paths(connection: &mut Connection, field: &str, texts: &[String]) -> Result<Vec<String>> {
    let mut paths = Vec::with_capacity(texts.len());
    for text in texts {
        // Who manages a pool may open it to any team or project, also to one that they do not see.
        let (sees, kinds) = (Visibility::whole(), ["team", "project"]);
        let found = views::people::place::find(connection, &sees, &kinds, "team or project", text)
            .await
            .map_err(|failure| failure.field(field))?;
        paths.push(found.path);
    }
    paths.sort();
    paths.dedup();
    Ok(paths)
}

/// Applies the settings that a change names, but for the supply.
async fn edit(
    connection: &mut Connection,
    who: &Principal,
    next: &mut OwnedPool,
    change: &PoolChange,
) -> Result<()> {
    if let Some(description) = &change.description {
        check_description(description)?;
        next.pool.description.clone_from(description);
    }
    if let Some(labels) = &change.labels {
        next.pool.labels = check_labels("labels", labels)?;
    }
    if let Some(needs) = &change.needs {
        next.pool.needs = check_needs(needs)?;
    }
    next.pool.jobs = Jsonb(changed_jobs(next.pool.jobs.0, change.jobs.as_ref())?);
    next.pool.open = change.open.unwrap_or(next.pool.open);
    next.pool.paused = change.paused.unwrap_or(next.pool.paused);
    if let Some(owner) = &change.owner {
        let owner = match owner.as_str() {
            "" => place::root(connection).await?,
            path => {
                let kinds = ["team", "project"];
                views::people::place::find(connection, &who.sees, &kinds, "team", path)
                    .await
                    .map_err(|failure| failure.field("owner"))?
            }
        };
        next.pool.owner_id = owner.id;
        next.owner = owner.path;
    }
    if let Some(only) = &change.narrow_to {
        next.pool.narrow_to = paths(connection, "narrow_to", only).await?;
        let outside = next
            .pool
            .narrow_to
            .iter()
            .find(|path| !pennine_core::dispatch::below(&next.owner, path));
        if let Some(path) = outside {
            let message = format!(
                "{path} is not below {}, which owns the pool: narrowed to it, no project could use the pool",
                next.owner
            );
            return Err(ServiceError::invalid("narrow_to", message)
                .remedy("to widen the reach, name it under \"widen_to\""));
        }
    }
    if let Some(also) = &change.widen_to {
        next.pool.widen_to = paths(connection, "widen_to", also).await?;
    }
    next.pool.asks_approval = change.asks_approval.unwrap_or(next.pool.asks_approval);
    next.pool.takes_untrusted = change.takes_untrusted.unwrap_or(next.pool.takes_untrusted);
    Ok(())
}

/// What a machine of the pool is made of, where it makes any: supplier, image, size and settings.
fn machines_asked_for(pool: &OwnedPool) -> Option<impl PartialEq + use<>> {
    pool.supply().map(|supply| {
        let Supply {
            supplier,
            image,
            size,
            settings,
            ..
        } = supply.clone();
        (supplier, image, size, settings)
    })
}

/// Change a pool: its owner, reach, labels, openness, or whether it is paused. Where jobs would be left that nothing can
/// run, it is refused with who they are, unless told to go on.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: PoolChange,
    expected: &ExpectedVersion,
) -> Result<ChangedPool> {
    commit(app, async |connection| {
        lock_for_change(connection, "pool", name).await?;
        let before = Yard::read(connection, app.clock.now()).await?;
        let mut visible = before.pools.iter().filter(|pool| who.sees_pool(pool));
        let found = visible.find(|pool| pool.pool.name == name);
        let mut next = found
            .cloned()
            .ok_or_else(|| ServiceError::unknown("pool", name))?;
        who.require(Action::ManagePool, &next.owner)?;
        expected
            .check(connection, &next, "pool.change", name)
            .await?;
        edit(connection, who, &mut next, &change).await?;
        let permit = who.require(Action::ManagePool, &next.owner)?;
        let asked = machines_asked_for(&next);
        let supply = next.pool.supply.clone().map(|supply| supply.0);
        let supply =
            operations::pools::capacity::changed(connection, supply, change.supply.as_ref())
                .await?;
        next.pool.supply = supply.map(Jsonb);
        operations::pools::untrusted::check(connection, &next, &before.runners).await?;
        // What was discovered of machines that were made of something else says nothing of those to come.
        let other = asked != machines_asked_for(&next);
        if other {
            next.standing = None;
        }
        let after = before.with_pool(&next);
        let now = app.clock.now();
        let losses = views::pools::stranded::between(connection, &before, &after, now).await?;
        // Before the change is made: the leader acts upon it at once.
        let decisions = match next.supply() {
            Some(_) => views::pools::capacity::foresee(app, connection, &next).await?,
            None => Vec::new(),
        };
        let mut done = false;
        if !change.preview {
            if !change.accept_losses {
                views::pools::stranded::refuse(&losses, name)?;
            }
            if !pool::set(connection, &next.pool, &who.name, now).await? {
                let message = format!("{name} was changed in the meantime");
                return Err(ServiceError::stale(message, next.version()));
            }
            if other {
                pool::forget(connection, next.pool.id.0, now).await?;
                if let Some(wanted) = next.supply() {
                    operations::pools::capacity::set_price(connection, next.pool.id.0, wanted, now)
                        .await?;
                }
            }
            let detail = json!({
                "supply": next.supply(),
                "labels": next.pool.labels, "open": next.pool.open, "owner": next.owner, "paused": next.pool.paused,
                "needs": next.pool.needs, "jobs": next.pool.jobs.0,
                "narrow_to": next.pool.narrow_to, "widen_to": next.pool.widen_to,
                "takes_untrusted": next.pool.takes_untrusted, "asks_approval": next.pool.asks_approval,
            });
            audit::write(connection, now, &permit, "pool.change", name, detail).await?;
            done = true;
        }
        Ok(ChangedPool {
            pool: shown(&next, &after.runners),
            done,
            losses,
            decisions,
        })
    })
    .await
}

/// Remove a pool. Its history is kept, and its name becomes free. Refused while the pool has runners, unless the
/// request retires them, and when jobs would remain that no other pool can run, unless the request confirms that.
pub async fn remove(app: &App, who: &Principal, name: &str, how: PoolRemoval) -> Result<()> {
    let retired = commit(app, async |connection| {
        let now = app.clock.now();
        let before = Yard::read(connection, now).await?;
        let mut visible = before.pools.iter().filter(|pool| who.sees_pool(pool));
        let found = visible.find(|pool| pool.pool.name == name);
        let found = found.ok_or_else(|| ServiceError::unknown("pool", name))?;
        let permit = who.require(Action::ManagePool, &found.owner)?;
        let id = found.pool.id.0;
        let members: Vec<&Runner> = before
            .runners
            .iter()
            .filter(|one| one.pool_id.0 == id)
            .collect();
        if !members.is_empty() && !how.force {
            let names: Vec<&str> = members
                .iter()
                .take(5)
                .map(|one| one.name.as_str())
                .collect();
            let more = members.len().saturating_sub(names.len());
            let more = if more > 0 {
                format!(" and {more} more")
            } else {
                String::new()
            };
            let message = format!("{name} has {}{more}", names.join(", "));
            return Err(ServiceError::conflict("pool-has-runners", "The pool has runners", message).remedy(
            "retire them first, or use force: they are retired, and their jobs end and are retried elsewhere",
        ));
        }
        if !how.accept_losses {
            let after = before.without_pool(id);
            let losses = views::pools::stranded::between(connection, &before, &after, now).await?;
            views::pools::stranded::refuse(&losses, name)?;
        }
        // First of all it gets no machine any more.
        let mut last = found.pool.clone();
        if last.supply.take().is_some() {
            pool::set(connection, &last, &who.name, now).await?;
        }
        let reason = format!("{} removed its pool", who.name.clone());
        for member in &members {
            runner::retire(connection, member.id.0, &reason, now).await?;
        }
        let removed = pool::remove(connection, id, &who.name, now).await?;
        if !removed {
            let message =
                format!("a machine has joined {name} in the meantime, or it was removed");
            return Err(
                ServiceError::conflict("changed-meanwhile", "The pool has changed", message)
                    .remedy("repeat it"),
            );
        }
        let detail = json!({"force": how.force, "runners": members.len()});
        audit::write(connection, now, &permit, "pool.remove", name, detail).await?;
        Ok(members.iter().map(|one| one.id.0).collect::<Vec<_>>())
    })
    .await?;
    for runner in retired {
        app.runner_cache.runner_gone(runner);
        app.polls.notify(runner);
    }
    Ok(())
}
