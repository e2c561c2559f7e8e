//! Pools and their policies.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox;
use crate::schema::{place, pool, pool_policy};
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::dispatch::PoolView;
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
            let policy = (
                pool_policy::pool_id.eq(new.id),
                pool_policy::version.eq(new.policy_version),
                pool_policy::owner_id.eq(new.owner_id),
                pool_policy::labels.eq(&new.labels),
                pool_policy::open.eq(new.open),
                pool_policy::since.eq(new.created_at),
                pool_policy::set_by.eq(by),
            );
            diesel::insert_into(pool_policy::table)
                .values(policy)
                .execute(connection)
                .await?;
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
