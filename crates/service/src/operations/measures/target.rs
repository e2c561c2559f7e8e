//! Targets.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::validation::check_name;
use crate::views;
use crate::views::measures::target::{find, one, place_of};
use pennine_core::access::Action;
use pennine_core::target::{InvalidTarget, Objective};
use pennine_store::audit::Permit;
use pennine_store::change_lock::lock_for_change;
use pennine_store::target::{self, Target as Row};
use pennine_store::{Connection, Db, audit, pool};
use pennine_wire::{NewTarget, Target, TargetChange};
use serde_json::json;

/// The most targets: each is looked at every few seconds.
const MOST: usize = 500;

fn set(row: &mut Row, promise: Objective) -> Result<()> {
    if let Err(error) = promise.check() {
        let field = match error {
            InvalidTarget::Share => "share",
            InvalidTarget::Within => "within_us",
            InvalidTarget::Days => "days",
        };
        return Err(ServiceError::invalid(field, error.to_string()));
    }
    let wrong = |field: &str| ServiceError::invalid(field, "the number is out of range");
    row.share = i16::try_from(promise.share.0).map_err(|_| wrong("share"))?;
    row.within_us = Db(promise.within_us);
    row.days = i32::try_from(promise.days).map_err(|_| wrong("days"))?;
    Ok(())
}

/// Add a target: a promise of how long jobs wait on a pool, or those of a team or a project, or all jobs.
pub async fn add(app: &App, who: &Principal, new: NewTarget) -> Result<Target> {
    check_name("name", &new.name)?;
    commit(app, async |connection| {
        let (mut pool_id, mut place_id, mut at_place) = (None, None, String::new());
        match (&new.pool, &new.place) {
            (Some(_), Some(_)) => {
                let message = "a target covers a pool, or a team or project, not both";
                return Err(ServiceError::invalid("place", message));
            }
            (Some(name), None) => {
                let found = views::pools::capacity::find(connection, who, name).await;
                let found = found.map_err(|failure| failure.field("pool"))?;
                pool_id = Some(found.pool.id);
                at_place = found.owner;
            }
            (None, Some(path)) => {
                let kinds = ["team", "project"];
                let found =
                    views::people::place::find(connection, &who.sees, &kinds, "place", path)
                        .await?;
                place_id = Some(found.id);
                at_place = found.path;
            }
            (None, None) => {}
        }
        let permit = who.require(Action::ManageTarget, &at_place)?;
        let there = target::list(connection).await?;
        if there.iter().any(|row| row.name == new.name) {
            let message = format!("a target {:?} already exists", new.name);
            return Err(ServiceError::taken(message));
        }
        if there.len() >= MOST {
            let message = format!("{MOST} targets already exist, the maximum");
            return Err(ServiceError::conflict("too-many", "Too many", message));
        }
        let now = app.clock.now();
        let mut row = Row {
            id: app.fresh_id(),
            name: new.name.clone(),
            pool_id,
            pool: None,
            place_id,
            place: None,
            share: 0,
            within_us: Db(new.within_us),
            days: 0,
            created_at: Db(now),
            created_by: who.name.clone(),
        };
        let promise = Objective {
            share: new.share,
            within_us: new.within_us,
            days: new.days,
        };
        set(&mut row, promise)?;
        target::write(connection, &row, now).await?;
        let detail = json!({"objective": promise.describe(), "pool": new.pool, "place": new.place});
        audit::write(connection, now, &permit, "target.add", &new.name, detail).await?;
        one(app, connection, who, &new.name).await
    })
    .await
}

/// Refuses who may not manage a target: it belongs to its place, or to the owner of its pool.
async fn require(connection: &mut Connection, who: &Principal, target: &Row) -> Result<Permit> {
    let pools = pool::list(connection).await?;
    who.require(Action::ManageTarget, &place_of(target, &pools))
}

/// Change a target.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: TargetChange,
    expected: &ExpectedVersion,
) -> Result<Target> {
    commit(app, async |connection| {
        lock_for_change(connection, "target", name).await?;
        let mut row = find(connection, who, name).await?;
        let permit = require(connection, who, &row).await?;
        expected
            .check(connection, &row, "target.change", name)
            .await?;
        let before = row.promise();
        let promise = Objective {
            share: change.share.unwrap_or(before.share),
            within_us: change.within_us.unwrap_or(before.within_us),
            days: change.days.unwrap_or(before.days),
        };
        set(&mut row, promise)?;
        let now = app.clock.now();
        target::write(connection, &row, now).await?;
        let detail = json!({"objective": promise.describe(), "before": before.describe()});
        audit::write(connection, now, &permit, "target.change", name, detail).await?;
        one(app, connection, who, name).await
    })
    .await
}

/// Remove a target.
pub async fn remove(app: &App, who: &Principal, name: &str) -> Result<()> {
    commit(app, async |connection| {
        let row = find(connection, who, name).await?;
        let permit = require(connection, who, &row).await?;
        let now = app.clock.now();
        target::remove(connection, row.id, now).await?;
        let detail = json!({"objective": row.promise().describe()});
        audit::write(connection, now, &permit, "target.remove", name, detail).await?;
        Ok(())
    })
    .await
}
