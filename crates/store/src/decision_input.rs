//! What dispatch and capacity decide from, in versions, so that a decision can be made again as it was made then.
//!
//! Here are weights and limits of places, seat counts, pools' prices and what their machines were found to be, suppliers'
//! quotas and offers, and the share policy. Pools' policies with their calendars, runners' facts and maintenance have
//! versions of their own ([`crate::pool`], [`crate::runner`], [`crate::maintenance`]).

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::SharePolicy;
use pennine_core::time::{Micros, Moment};
use serde_json::{Value, json};
use uuid::Uuid;

/// One version of something.
#[derive(Clone, Debug, PartialEq, QueryableByName)]
pub struct Version {
    /// `place`, `seat`, `pool`, `supplier` or `share-policy`.
    #[diesel(sql_type = Text)]
    pub kind: String,
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Timestamptz)]
    pub since: Db<Moment>,
    /// None marks its removal.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub value: Option<Value>,
}

/// Records a version of everything that is otherwise than when it was last recorded. Belongs into the transaction that
/// changes something of it.
pub async fn record(connection: &mut Connection, at: Moment) -> Result<()> {
    sql!(
        "with current (kind, id, value) as (
           select 'place', id, jsonb_build_object('path', path, 'weight', weight, 'limit', slot_limit) from place
           union all
           select 'seat', id, jsonb_build_object('name', name, 'count', count) from seat
           union all
           select 'pool', pool_id, jsonb_build_object('price', price, 'discovered', discovered) from pool_standing
           union all
           select 'supplier', id, jsonb_build_object('name', name, 'quota', quota, 'boot_limit_us', boot_limit_us, 'offer', offer)
           from supplier),
         latest as (
           select distinct on (kind, id) kind, id, value from decision_input
           where kind <> 'share-policy' order by kind, id, since desc)
         insert into decision_input (kind, id, since, value)
         select kind, id, :at, current.value from current full join latest using (kind, id)
         where current.value is distinct from latest.value
         on conflict (kind, id, since) do update set value = excluded.value";
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Records by which policy shares are worked out from now on, where that is another than before.
pub async fn record_share_policy(
    connection: &mut Connection,
    policy: &SharePolicy,
    at: Moment,
) -> Result<()> {
    let value = json!({
        "half_life_us": Micros::from(policy.half_life),
        "advance_us": Micros::from(policy.advance),
        "climb_after_us": Micros::from(policy.climb_after),
    });
    sql!(
        "insert into decision_input (kind, id, since, value)
         select 'share-policy', :id, :at, :value::jsonb
         where :value::jsonb is distinct from (
           select value from decision_input where kind = 'share-policy' and id = :id order by since desc limit 1)
         on conflict (kind, id, since) do update set value = excluded.value";
        id: SqlUuid = Uuid::nil(),
        at: Timestamptz = Db(at),
        value: Jsonb = value,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returns what held at a moment.
pub async fn at(connection: &mut Connection, moment: Moment) -> Result<Vec<Version>> {
    Ok(sql!(
        "select kind, id, since, value from (
           select distinct on (kind, id) kind, id, since, value from decision_input
           where since <= :moment order by kind, id, since desc) latest
         where value is not null order by kind, id";
        moment: Timestamptz = Db(moment),
    )
    .load(connection)
    .await?)
}
