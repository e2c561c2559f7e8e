//! Pools and their policies.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox;
use crate::schema::{place, pool, pool_policy};
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::dispatch::{PoolView, Reach};
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::time::Moment;
use serde_json::json;

/// A pool.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = pool)]
pub struct Pool {
    pub id: Db<PoolId>,
    pub name: String,
    pub description: String,
    pub owner_id: Db<PlaceId>,
    pub labels: Vec<String>,
    pub open: bool,
    pub policy_version: i32,
    pub created_at: Db<Moment>,
    pub reach_only: Vec<String>,
    pub reach_also: Vec<String>,
    pub paused: bool,
    pub needs: String,
}

/// A pool with its owner's path.
#[derive(Clone, Debug)]
pub struct OwnedPool {
    pub pool: Pool,
    pub owner: String,
}

impl OwnedPool {
    /// The pool as dispatch sees it.
    pub fn view(&self) -> PoolView {
        PoolView {
            id: self.pool.id.0,
            name: self.pool.name.clone(),
            open: self.pool.open,
            owner: self.owner.clone(),
            reach: Reach {
                only: self.pool.reach_only.clone(),
                also: self.pool.reach_also.clone(),
            },
            paused: self.pool.paused,
            ..PoolView::default()
        }
    }
}

/// Adds a pool, with the first version of its policy.
pub async fn insert(connection: &mut Connection, new: &Pool, by: &str) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(pool::table)
                .values(new)
                .execute(connection)
                .await?;
            keep_policy(connection, new, by, new.created_at.0).await?;
            outbox::write(
                connection,
                new.created_at.0,
                "pool.made",
                new.id.0,
                json!({"name": new.name}),
            )
            .await
        })
        .await
}

/// Keeps what holds for a pool from now on.
async fn keep_policy(connection: &mut Connection, pool: &Pool, by: &str, at: Moment) -> Result<()> {
    let policy = (
        pool_policy::pool_id.eq(pool.id),
        pool_policy::version.eq(pool.policy_version),
        pool_policy::owner_id.eq(pool.owner_id),
        pool_policy::labels.eq(&pool.labels),
        pool_policy::open.eq(pool.open),
        pool_policy::since.eq(Db(at)),
        pool_policy::set_by.eq(by),
        pool_policy::reach_only.eq(&pool.reach_only),
        pool_policy::reach_also.eq(&pool.reach_also),
        pool_policy::paused.eq(pool.paused),
    );
    diesel::insert_into(pool_policy::table)
        .values(policy)
        .execute(connection)
        .await?;
    Ok(())
}

/// Changes a pool, under the next version of its policy. False when somebody else has changed it since it was read.
pub async fn set(
    connection: &mut Connection,
    changed: &Pool,
    by: &str,
    at: Moment,
) -> Result<bool> {
    let mut next = changed.clone();
    next.policy_version += 1;
    connection
        .transaction(async |connection| {
            let kept = diesel::update(pool::table)
                .filter(pool::id.eq(next.id))
                .filter(pool::policy_version.eq(changed.policy_version))
                .set((
                    pool::description.eq(&next.description),
                    pool::owner_id.eq(next.owner_id),
                    pool::labels.eq(&next.labels),
                    pool::open.eq(next.open),
                    pool::policy_version.eq(next.policy_version),
                    pool::reach_only.eq(&next.reach_only),
                    pool::reach_also.eq(&next.reach_also),
                    pool::paused.eq(next.paused),
                    pool::needs.eq(&next.needs),
                ))
                .execute(connection)
                .await?;
            if kept == 0 {
                return Ok(false);
            }
            keep_policy(connection, &next, by, at).await?;
            outbox::write(
                connection,
                at,
                "pool.changed",
                next.id.0,
                json!({"name": next.name}),
            )
            .await?;
            Ok(true)
        })
        .await
}

/// Every pool, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<OwnedPool>> {
    let rows: Vec<(Pool, String)> = pool::table
        .inner_join(place::table)
        .select((Pool::as_select(), place::path))
        .order(pool::name)
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(pool, owner)| OwnedPool { pool, owner })
        .collect())
}

/// The pool with this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<OwnedPool>> {
    let row: Option<(Pool, String)> = pool::table
        .inner_join(place::table)
        .select((Pool::as_select(), place::path))
        .filter(pool::name.eq(name))
        .first(connection)
        .await
        .optional()?;
    Ok(row.map(|(pool, owner)| OwnedPool { pool, owner }))
}

/// The pool with this id.
pub async fn get(connection: &mut Connection, id: PoolId) -> Result<Option<OwnedPool>> {
    let row: Option<(Pool, String)> = pool::table
        .inner_join(place::table)
        .select((Pool::as_select(), place::path))
        .filter(pool::id.eq(Db(id)))
        .first(connection)
        .await
        .optional()?;
    Ok(row.map(|(pool, owner)| OwnedPool { pool, owner }))
}
