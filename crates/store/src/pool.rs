//! Pools and their policies.

use crate::change::Change;
use crate::connect::Connection;
use crate::decision_input;
use crate::error::Result;
use crate::outbox;
use crate::schema::{place, pool, pool_policy, pool_standing};
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::prelude::*;
use diesel::sql_types::{Jsonb, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::capacity::{Numbers, Supply};
use pennine_core::dispatch::{PoolView, Price, Reach};
use pennine_core::fact::{Facts, Subject};
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::job_policy::JobPolicy;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};

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
    pub narrow_to: Vec<String>,
    pub widen_to: Vec<String>,
    pub takes_untrusted: bool,
    /// Whether a project's first use has to be approved, and the paths of the projects whose use was.
    pub asks_approval: bool,
    pub approved: Vec<String>,
    pub paused: bool,
    pub needs: String,
    /// How it gets machines; people bring them where it does not.
    pub supply: Option<Json<Supply>>,
    /// What its jobs may reach and use.
    pub jobs: Json<JobPolicy>,
}

/// How a pool that makes machines stands.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = pool_standing)]
pub struct PoolStanding {
    pub discovered: Option<Json<DiscoveredFacts>>,
    pub price: i64,
    pub coming: i32,
    pub short: Option<String>,
    pub full_at: Option<i32>,
    pub numbers: Json<Numbers>,
}

/// What was last found of a pool's machines.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct DiscoveredFacts {
    pub labels: Vec<String>,
    pub facts: Facts,
}

/// A pool with its owner's path.
#[derive(Clone, Debug)]
pub struct OwnedPool {
    pub pool: Pool,
    pub owner: String,
    pub standing: Option<PoolStanding>,
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
                narrow_to: self.pool.narrow_to.clone(),
                widen_to: self.pool.widen_to.clone(),
                takes_untrusted: self.pool.takes_untrusted,
                asks_approval: self.pool.asks_approval,
                approved: self.pool.approved.iter().cloned().collect(),
            },
            paused: self.pool.paused,
            price: self.price(),
            makes: self.makes(),
            coming: count(self.supplied().map_or(0, |standing| standing.coming)),
            short: self.supplied().and_then(|standing| standing.short.clone()),
            full: self
                .supplied()
                .and_then(|standing| standing.full_at.map(count)),
        }
    }

    /// How it gets machines, where it does.
    pub fn supply(&self) -> Option<&Supply> {
        self.pool.supply.as_ref().map(|supply| &supply.0)
    }

    /// How it stands, where it makes machines.
    pub fn supplied(&self) -> Option<&PoolStanding> {
        self.supply().and(self.standing.as_ref())
    }

    /// What an hour of one of its machines costs.
    pub fn price(&self) -> Price {
        let own = self.supply().and_then(|supply| supply.price);
        own.unwrap_or_else(|| {
            Price(
                self.supplied()
                    .map_or(0, |standing| standing.price.max(0).unsigned_abs()),
            )
        })
    }

    /// What its machines are: what was found of the last one, under what people say.
    fn makes(&self) -> Option<Subject> {
        let supply = self.supply()?;
        let discovered = self.supplied().and_then(|one| one.discovered.as_ref());
        if discovered.is_none() && supply.facts.is_empty() {
            return None;
        }
        let discovered = discovered
            .map(|discovered| discovered.0.clone())
            .unwrap_or_default();
        let mut facts = discovered.facts;
        facts.extend(supply.facts.clone());
        let labels = discovered.labels.iter().chain(&self.pool.labels);
        let labels = labels.map(String::as_str);
        let subject = Subject::new("", &self.pool.name, labels, &facts);
        Some(subject.without(&["runner", "host"]))
    }
}

fn count(n: i32) -> u32 {
    n.max(0).unsigned_abs()
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
            let change = Change::PoolAdded {
                pool: new.id.0,
                name: new.name.clone(),
            };
            outbox::write(connection, new.created_at.0, &change).await
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
        pool_policy::narrow_to.eq(&pool.narrow_to),
        pool_policy::widen_to.eq(&pool.widen_to),
        pool_policy::takes_untrusted.eq(pool.takes_untrusted),
        pool_policy::asks_approval.eq(pool.asks_approval),
        pool_policy::approved.eq(&pool.approved),
        pool_policy::paused.eq(pool.paused),
        pool_policy::supply.eq(&pool.supply),
        pool_policy::jobs.eq(&pool.jobs),
    );
    diesel::insert_into(pool_policy::table)
        .values(policy)
        .execute(connection)
        .await?;
    Ok(())
}

/// Changes a pool, under the next version of its policy. Returns false if it was changed since it was read.
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
                    pool::narrow_to.eq(&next.narrow_to),
                    pool::widen_to.eq(&next.widen_to),
                    pool::takes_untrusted.eq(next.takes_untrusted),
                    pool::asks_approval.eq(next.asks_approval),
                    pool::approved.eq(&next.approved),
                    pool::paused.eq(next.paused),
                    pool::needs.eq(&next.needs),
                    pool::supply.eq(&next.supply),
                    pool::jobs.eq(&next.jobs),
                ))
                .execute(connection)
                .await?;
            if kept == 0 {
                return Ok(false);
            }
            keep_policy(connection, &next, by, at).await?;
            let change = Change::PoolChanged {
                pool: next.id.0,
                name: next.name.clone(),
            };
            outbox::write(connection, at, &change).await?;
            Ok(true)
        })
        .await
}

type Row = (Pool, String, Option<PoolStanding>);

fn owned((pool, owner, standing): Row) -> OwnedPool {
    OwnedPool {
        pool,
        owner,
        standing,
    }
}

/// Pools with their owners' paths and how they stand.
macro_rules! rows {
    () => {
        pool::table
            .inner_join(place::table)
            .left_join(pool_standing::table)
            .select((
                Pool::as_select(),
                place::path,
                Option::<PoolStanding>::as_select(),
            ))
    };
}

/// Every pool, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<OwnedPool>> {
    let there = rows!().filter(pool::removed_at.is_null());
    let rows: Vec<Row> = there.order(pool::name).load(connection).await?;
    Ok(rows.into_iter().map(owned).collect())
}

/// The names of all pools that there ever were.
pub async fn every(connection: &mut Connection) -> Result<Vec<(PoolId, String)>> {
    let rows: Vec<(Db<PoolId>, String)> = pool::table
        .select((pool::id, pool::name))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(|(id, name)| (id.0, name)).collect())
}

/// The pool with this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<OwnedPool>> {
    let row = rows!()
        .filter(pool::name.eq(name))
        .filter(pool::removed_at.is_null());
    Ok(row.first(connection).await.optional()?.map(owned))
}

/// The pool with this id.
pub async fn get(connection: &mut Connection, id: PoolId) -> Result<Option<OwnedPool>> {
    let row = rows!().filter(pool::id.eq(Db(id)));
    Ok(row.first(connection).await.optional()?.map(owned))
}

/// Removes a pool that has no runner any more, and revokes its tickets; its record stays, under the root. Machines whose
/// runners were retired are removed by the leader. False where a runner is still there.
pub async fn remove(connection: &mut Connection, id: PoolId, by: &str, at: Moment) -> Result<bool> {
    let removed = sql!(
        "with gone as (
           update pool set removed_at = :at, supply = null, open = false, paused = true,
                           owner_id = (select id from place where kind = 'root')
           where id = :id and removed_at is null
             and not exists (select from runner where pool_id = :id and state <> 'retired')
           returning id, name),
         tickets as (
           update ticket set revoked_at = :at, revoked_by = :by
           where pool_id in (select id from gone) and revoked_at is null),
         told as (
           delete from pool_standing where pool_id in (select id from gone))"
         change PoolRemoved { pool: "id", name: "name" } at ":at" from "gone";
        at: Timestamptz = Db(at),
        id: SqlUuid = Db(id),
        by: diesel::sql_types::Text = by,
    )
    .execute(connection)
    .await?;
    Ok(removed > 0)
}

/// Remembers what a pool's machines are.
pub async fn learn(
    connection: &mut Connection,
    id: PoolId,
    discovered: &DiscoveredFacts,
    at: Moment,
) -> Result<()> {
    connection
        .transaction(async |connection| {
            sql!(
                "with s as (
           insert into pool_standing (pool_id, discovered) values (:id, :discovered)
           on conflict (pool_id) do update set discovered = excluded.discovered returning pool_id)"
                 change PoolFactsLearnt { pool: "pool_id" } at ":at" from "s";
                id: SqlUuid = Db(id),
                discovered: Jsonb = Json(discovered.clone()),
                at: Timestamptz = Db(at),
            )
            .execute(connection)
            .await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// Forgets what a pool's machines are and what was decided of them: they are made of something else by now.
pub async fn forget(connection: &mut Connection, id: PoolId, at: Moment) -> Result<()> {
    connection
        .transaction(async |connection| {
            sql!(
                "delete from pool_standing where pool_id = :id";
                id: SqlUuid = Db(id),
            )
            .execute(connection)
            .await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// Sets what an hour of a pool's machines costs, as its supplier says. True if that is another than before.
pub async fn set_price(
    connection: &mut Connection,
    id: PoolId,
    price: Price,
    at: Moment,
) -> Result<bool> {
    connection
        .transaction(async |connection| {
    let set = sql!(
        "with s as (
           insert into pool_standing as known (pool_id, price) values (:id, :price)
           on conflict (pool_id) do update set price = excluded.price where known.price <> excluded.price
           returning pool_id)"
         change PoolPriceChanged { pool: "pool_id" } at ":at" from "s";
        id: SqlUuid = Db(id),
        price: diesel::sql_types::BigInt = i64::try_from(price.0).unwrap_or(i64::MAX),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
            decision_input::record(connection, at).await?;
            Ok::<_, crate::Error>(set > 0)
        })
        .await
}
