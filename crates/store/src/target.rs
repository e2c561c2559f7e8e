//! Targets: promises about waits, and how waits have lately kept them.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Integer, Nullable, SmallInt, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::measure::rank::PerMille;
use pennine_core::target::{Promise, Tally};
use pennine_core::time::{Micros, Moment};
use uuid::Uuid;

/// A target.
#[derive(Clone, Debug, QueryableByName)]
pub struct Target {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub pool_id: Option<Db<PoolId>>,
    /// The pool's name.
    #[diesel(sql_type = Nullable<Text>)]
    pub pool: Option<String>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub place_id: Option<Db<PlaceId>>,
    /// The place's path.
    #[diesel(sql_type = Nullable<Text>)]
    pub place: Option<String>,
    #[diesel(sql_type = SmallInt)]
    pub share: i16,
    #[diesel(sql_type = BigInt)]
    pub within_us: Db<Micros>,
    #[diesel(sql_type = Integer)]
    pub days: i32,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
}

impl Target {
    /// What it promises.
    pub fn promise(&self) -> Promise {
        Promise {
            share: PerMille(u16::try_from(self.share).unwrap_or(0)),
            within_us: self.within_us.0,
            days: self.days.max(0).unsigned_abs(),
        }
    }
}

/// Every target, by name. Those of a pool that was removed are none any more.
pub async fn list(connection: &mut Connection) -> Result<Vec<Target>> {
    Ok(statement(
        "select t.id, t.name, t.pool_id, o.name as pool, t.place_id, p.path as place, t.share, t.within_us, t.days,
                t.created_at, t.created_by
         from target t left join pool o on o.id = t.pool_id left join place p on p.id = t.place_id
         where o.removed_at is null order by t.name",
    )
    .load(connection)
    .await?)
}

/// Adds a target, or changes the one with its id. A name that a removed pool's target has is free.
pub async fn write(connection: &mut Connection, one: &Target, at: Moment) -> Result<()> {
    statement(
        "delete from target t using pool o where o.id = t.pool_id and o.removed_at is not null and t.name = $1",
    )
    .bind::<Text, _>(&one.name)
    .execute(connection)
    .await?;
    statement(
        "with t as (
           insert into target (id, name, pool_id, place_id, share, within_us, days, created_at, created_by)
           values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
           on conflict (id) do update set pool_id = excluded.pool_id, place_id = excluded.place_id,
             share = excluded.share, within_us = excluded.within_us, days = excluded.days
           returning id)
         insert into outbox (at, kind, subject, body) select $10, 'target.changed', id, '{}' from t",
    )
    .bind::<SqlUuid, _>(one.id)
    .bind::<Text, _>(&one.name)
    .bind::<Nullable<SqlUuid>, _>(one.pool_id)
    .bind::<Nullable<SqlUuid>, _>(one.place_id)
    .bind::<SmallInt, _>(one.share)
    .bind::<BigInt, _>(one.within_us)
    .bind::<Integer, _>(one.days)
    .bind::<Timestamptz, _>(one.created_at)
    .bind::<Text, _>(&one.created_by)
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}

/// Removes a target.
pub async fn remove(connection: &mut Connection, id: Uuid, at: Moment) -> Result<()> {
    statement(
        "with t as (delete from target where id = $1 returning id)
         insert into outbox (at, kind, subject, body) select $2, 'target.changed', id, '{}' from t",
    )
    .bind::<SqlUuid, _>(id)
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}

/// Whose waits are looked at.
#[derive(Clone, Debug)]
pub enum Whose {
    Everybodys,
    /// Those of attempts on a pool.
    Pool(PoolId),
    /// Those of jobs of these projects.
    Projects(Vec<PlaceId>),
}

/// Of the waits that are over and counted, those that were decided from each of two moments on, until now.
pub async fn lately(
    connection: &mut Connection,
    whose: &Whose,
    promise: &Promise,
    (hour, minutes): (Moment, Moment),
    now: Moment,
) -> Result<(Tally, Tally)> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        hour_kept: i64,
        #[diesel(sql_type = BigInt)]
        hour_late: i64,
        #[diesel(sql_type = BigInt)]
        kept: i64,
        #[diesel(sql_type = BigInt)]
        late: i64,
    }
    let (pool, projects) = match whose {
        Whose::Everybodys => (None, None),
        Whose::Pool(pool) => (Some(Db(*pool)), None),
        Whose::Projects(all) => {
            let all: Vec<Db<PlaceId>> = all.iter().map(|id| Db(*id)).collect();
            (None, Some(all))
        }
    };
    let row: Row = statement(
        "select count(*) filter (where not late and at >= $1) as hour_kept,
                count(*) filter (where late and at >= $2) as hour_late,
                count(*) filter (where not late and at >= $3) as kept,
                count(*) filter (where late and at >= $4) as late
         from (select waited_us > $5 as late, ready_at + least(waited_us, $6) * interval '1 microsecond' as at
               from stint where ready_at >= $7 and ready_at < $8 and ($9::uuid is null or pool_id = $10)
                 and ($11::uuid[] is null or project_id = any($12))) decided
         where at < $13",
    )
    .bind::<Timestamptz, _>(Db(hour))
    .bind::<Timestamptz, _>(Db(hour))
    .bind::<Timestamptz, _>(Db(minutes))
    .bind::<Timestamptz, _>(Db(minutes))
    .bind::<BigInt, _>(Db(promise.within_us))
    .bind::<BigInt, _>(Db(promise.within_us))
    .bind::<Timestamptz, _>(Db(hour - promise.within_us.into()))
    .bind::<Timestamptz, _>(Db(now))
    .bind::<Nullable<SqlUuid>, _>(pool)
    .bind::<Nullable<SqlUuid>, _>(pool)
    .bind::<Nullable<Array<SqlUuid>>, _>(projects.clone())
    .bind::<Nullable<Array<SqlUuid>>, _>(projects)
    .bind::<Timestamptz, _>(Db(now))
    .get_result(connection)
    .await?;
    let tally = |kept: i64, late: i64| Tally {
        kept: kept.max(0).unsigned_abs(),
        late: late.max(0).unsigned_abs(),
        undecided: 0,
    };
    Ok((
        tally(row.hour_kept, row.hour_late),
        tally(row.kept, row.late),
    ))
}
