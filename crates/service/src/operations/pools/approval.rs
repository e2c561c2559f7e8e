//! Approvals of the first use of a pool, where the pool asks for them.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::Versioned;
use crate::views;
use crate::views::jobs::job::{find, waits};
use pennine_core::access::Action;
use pennine_core::dispatch::{PoolAccess, StrandKey};
use pennine_core::id::ShortName;
use pennine_store::audit::Permit;
use pennine_store::change_lock::lock_for_change;
use pennine_store::pool::OwnedPool;
use pennine_store::{Connection, audit, job, place, pool, strand};
use pennine_wire::{ApprovalWithdrawal, Pool, PoolApproval};
use serde_json::json;

/// The pool with this name that may be seen, kept from other changes until the transaction ends.
async fn locked(
    connection: &mut Connection,
    who: &Principal,
    name: &str,
) -> Result<(OwnedPool, Permit)> {
    lock_for_change(connection, "pool", name).await?;
    let found = pool::find(connection, name).await?;
    let visible = found.filter(|owned| who.sees_pool(owned));
    let owned = visible.ok_or_else(|| ServiceError::unknown("pool", name))?;
    let permit = who.require(Action::ApproveUse, &owned.owner)?;
    Ok((owned, permit))
}

/// Stores which projects are approved, as the next version of the pool's policy.
async fn store(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    owned: &mut OwnedPool,
) -> Result<()> {
    let now = app.clock.now();
    if !pool::set(connection, &owned.pool, &who.name, now).await? {
        let message = format!("{} was changed in the meantime", owned.pool.name);
        return Err(ServiceError::stale(message, owned.version()));
    }
    owned.pool.policy_version += 1;
    Ok(())
}

/// Approves a project's use of a pool for good, or that of one job. What is approved already stays so. Also possible before the pool
/// asks for approvals.
///
/// # Errors
/// Invalid unless one of both is given; unknown where the pool, the project or the job cannot be seen; a conflict where the job does
/// not wait.
pub async fn approve(
    app: &App,
    who: &Principal,
    name: &str,
    approval: PoolApproval,
) -> Result<Pool> {
    commit(app, async |connection| {
        let (mut owned, permit) = locked(connection, who, name).await?;
        let now = app.clock.now();
        let detail = match (&approval.project, &approval.job) {
            (Some(project), None) => {
                // Beside the visible projects, the ones within the pool's reach: their jobs wait for the pool.
                let view = owned.view();
                let is_known = |path: &str| {
                    who.sees.includes(path) || view.access(path).0 != PoolAccess::OutOfReach
                };
                let mut found = place::find(connection, &["project"], project).await?;
                found.retain(|place| is_known(&place.path));
                let path = match found.as_slice() {
                    [one] => one.path.clone(),
                    [] => return Err(ServiceError::unknown("project", project).field("project")),
                    several => {
                        let paths: Vec<String> =
                            several.iter().map(|place| place.path.clone()).collect();
                        return Err(ServiceError::ambiguous("project", project, &paths));
                    }
                };
                if !owned.pool.approved.contains(&path) {
                    owned.pool.approved.push(path.clone());
                    owned.pool.approved.sort();
                    store(app, connection, who, &mut owned).await?;
                }
                json!({"project": path})
            }
            (None, Some(text)) => {
                let row = find(connection, who, text).await?;
                let key = strand::get(connection, &[row.strand_id.0]).await?;
                let known = key.into_iter().next().map(|strand| strand.key.0);
                let known = known.ok_or_else(|| ServiceError::internal("a job without strand"))?;
                let mut approved_in = known.approved_in.clone();
                approved_in.insert(owned.pool.id.0);
                let key = StrandKey {
                    approved_in,
                    ..known
                };
                let strand = app.strand(connection, &key).await?;
                let is_approved = strand == row.strand_id.0 && waits(&row);
                let moved = job::move_to(connection, row.id.0, key.band, strand, now).await?;
                let job = ShortName::Job.name(row.number);
                if !moved && !is_approved {
                    let message = format!("{job} does not wait");
                    let title = "The job does not wait";
                    return Err(ServiceError::conflict("not-waiting", title, message).field("job"));
                }
                json!({"job": job, "project": row.project})
            }
            _ => {
                let message = "give a project, or a job";
                return Err(ServiceError::invalid("project", message));
            }
        };
        audit::write(connection, now, &permit, "pool.approve", name, detail).await?;
        Ok(views::pools::pool::shown(&owned, &[]))
    })
    .await
}

/// Withdraws a project's approval. Executing jobs continue; waiting jobs need approval again.
///
/// # Errors
/// Unknown where the pool cannot be seen or the project is not approved.
pub async fn withdraw(
    app: &App,
    who: &Principal,
    name: &str,
    withdrawal: ApprovalWithdrawal,
) -> Result<Pool> {
    commit(app, async |connection| {
        let (mut owned, permit) = locked(connection, who, name).await?;
        let project = &withdrawal.project;
        let before = owned.pool.approved.len();
        owned.pool.approved.retain(|path| path != project);
        if owned.pool.approved.len() == before {
            let error = ServiceError::unknown("approval", project).field("project");
            return Err(error.remedy(format!(
                "pennine pool show {name} shows the approved projects"
            )));
        }
        store(app, connection, who, &mut owned).await?;
        let detail = json!({"project": project});
        let now = app.clock.now();
        audit::write(
            connection,
            now,
            &permit,
            "pool.withdraw-approval",
            name,
            detail,
        )
        .await?;
        Ok(views::pools::pool::shown(&owned, &[]))
    })
    .await
}
