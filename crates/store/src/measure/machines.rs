//! Machines: what they cost, and for how long their runners were there.

use super::add_up;
use crate::connect::Connection;
use crate::error::Result;
use crate::rollup::{KeyCache, RollupKey};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::Price;
use pennine_core::id::{PoolId, SupplierId};
use pennine_core::measure::MachineTime;
use pennine_core::time::Moment;
use uuid::Uuid;

/// A machine whose cost is not among the sums: it is there, or has just gone.
#[derive(Clone, Debug, QueryableByName)]
pub struct Machine {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = SqlUuid)]
    pub supplier_id: Db<SupplierId>,
    #[diesel(sql_type = Text)]
    pub image: String,
    #[diesel(sql_type = BigInt)]
    pub price: i64,
    #[diesel(sql_type = Timestamptz)]
    pub ordered_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub joined_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub released_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
}

impl Machine {
    /// As the core counts it; cut off at `now` where it is there.
    pub fn time(&self, now: Moment) -> MachineTime {
        MachineTime {
            ordered: self.ordered_at.0,
            joined: self.joined_at.map(|at| at.0),
            released: self.released_at.map(|at| at.0),
            until: self.ended_at.map_or(now, |at| at.0),
            price: Price(self.price.max(0).unsigned_abs()),
        }
    }

    /// What its sums are kept by.
    pub fn keys(&self) -> Vec<RollupKey> {
        let mut keys = vec![
            RollupKey::Yard,
            RollupKey::Pool(self.pool_id.0),
            RollupKey::Supplier(self.supplier_id.0),
        ];
        if !self.image.is_empty() {
            keys.push(RollupKey::Image(self.image.clone()));
        }
        keys
    }
}

/// Machines whose cost is not among the sums.
pub async fn machines(connection: &mut Connection) -> Result<Vec<Machine>> {
    Ok(sql!(
        "select m.id, m.pool_id, m.supplier_id, coalesce(pp.supply ->> 'image', '') as image, m.price, m.ordered_at,
                m.joined_at, m.released_at, m.ended_at
         from machine m left join pool_policy pp on pp.pool_id = m.pool_id and pp.version = m.policy_version
         where not m.counted"
    )
    .load(connection)
    .await?)
}

/// Adds what machines cost that are gone.
pub async fn add_machines(connection: &mut Connection, known: &mut KeyCache) -> Result<usize> {
    let mut gone = machines(connection).await?;
    gone.retain(|machine| machine.ended_at.is_some());
    if gone.is_empty() {
        return Ok(0);
    }
    let parts = gone.iter().map(|one| {
        let time = one.time(Moment::default());
        (one.keys(), move |resolution| time.cells(resolution))
    });
    add_up(connection, known, parts).await?;
    sql!(
        "update machine set counted = true where id = any(:ids)";
        ids: Array<SqlUuid> = gone.iter().map(|machine| machine.id).collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(gone.len())
}
