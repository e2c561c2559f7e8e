//! Targets: promises about waits, and how recent waits have kept them.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Integer, Nullable, SmallInt, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::measure::rank::PerMille;
use pennine_core::target::{Objective, Tally};
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
    pub fn promise(&self) -> Objective {
        Objective {
            share: PerMille(u16::try_from(self.share).unwrap_or(0)),
            within_us: self.within_us.0,
            days: self.days.max(0).unsigned_abs(),
        }
    }
}

/// Every target, by name. Those of a pool that was removed are none any more.
pub async fn list(connection: &mut Connection) -> Result<Vec<Target>> {
    Ok(sql!(
        "select t.id, t.name, t.pool_id, o.name as pool, t.place_id, p.path as place, t.share, t.within_us, t.days,
                t.created_at, t.created_by
         from target t left join pool o on o.id = t.pool_id left join place p on p.id = t.place_id
         where o.removed_at is null order by t.name"
    )
    .load(connection)
    .await?)
}

/// Adds a target, or changes the one with its id. A name that a removed pool's target has is free.
pub async fn write(connection: &mut Connection, one: &Target, at: Moment) -> Result<()> {
    sql!(
        "delete from target t using pool o where o.id = t.pool_id and o.removed_at is not null and t.name = :name";
        name: Text = &one.name,
    )
    .execute(connection)
    .await?;
    sql!(
        "with t as (
           insert into target (id, name, pool_id, place_id, share, within_us, days, created_at, created_by)
           values (:id, :name, :pool_id, :place_id, :share, :within_us, :days, :created_at, :created_by)
           on conflict (id) do update set pool_id = excluded.pool_id, place_id = excluded.place_id,
             share = excluded.share, within_us = excluded.within_us, days = excluded.days
           returning id)"
         change TargetChanged { target: "id" } at ":at" from "t";
        id: SqlUuid = one.id,
        name: Text = &one.name,
        pool_id: Nullable<SqlUuid> = one.pool_id,
        place_id: Nullable<SqlUuid> = one.place_id,
        share: SmallInt = one.share,
        within_us: BigInt = one.within_us,
        days: Integer = one.days,
        created_at: Timestamptz = one.created_at,
        created_by: Text = &one.created_by,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Removes a target.
pub async fn remove(connection: &mut Connection, id: Uuid, at: Moment) -> Result<()> {
    sql!(
        "with t as (delete from target where id = :id returning id)"
         change TargetChanged { target: "id" } at ":at" from "t";
        id: SqlUuid = id,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Whose waits are looked at.
#[derive(Clone, Debug)]
pub enum WaitScope {
    Everybodys,
    /// Those of attempts on a pool.
    Pool(PoolId),
    /// Those of jobs of these projects.
    Projects(Vec<PlaceId>),
}

/// Finished and counted waits, decided since each of two moments.
pub async fn recent_waits(
    connection: &mut Connection,
    whose: &WaitScope,
    promise: &Objective,
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
        WaitScope::Everybodys => (None, None),
        WaitScope::Pool(pool) => (Some(Db(*pool)), None),
        WaitScope::Projects(all) => {
            let all: Vec<Db<PlaceId>> = all.iter().map(|id| Db(*id)).collect();
            (None, Some(all))
        }
    };
    let row: Row = sql!(
        "select count(*) filter (where not late and at >= :hour) as hour_kept,
                count(*) filter (where late and at >= :hour) as hour_late,
                count(*) filter (where not late and at >= :minutes) as kept,
                count(*) filter (where late and at >= :minutes) as late
         from (select waited_us > :within_us as late, ready_at + least(waited_us, :within_us) * interval '1 microsecond' as at
               from work_span where ready_at >= :ready_at and ready_at < :now and (:pool::uuid is null or pool_id = :pool)
                 and (:projects::uuid[] is null or project_id = any(:projects))) decided
         where at < :now";
        hour: Timestamptz = Db(hour),
        minutes: Timestamptz = Db(minutes),
        within_us: BigInt = Db(promise.within_us),
        ready_at: Timestamptz = Db(hour - promise.within_us.into()),
        now: Timestamptz = Db(now),
        pool: Nullable<SqlUuid> = pool,
        projects: Nullable<Array<SqlUuid>> = projects,
    )
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
