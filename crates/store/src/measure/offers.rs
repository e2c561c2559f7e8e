//! Stretches in which runners offered slots.

use super::add_up;
use crate::connect::Connection;
use crate::error::Result;
use crate::rollup::{KeyCache, RollupKey};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Nullable, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::{PoolId, RunnerId};
use pennine_core::measure::Offered;
use pennine_core::time::Moment;
use uuid::Uuid;

/// A stretch in which a runner offered slots.
#[derive(Clone, Debug, QueryableByName)]
pub struct Offer {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Timestamptz)]
    pub since: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub until: Option<Db<Moment>>,
    #[diesel(sql_type = Integer)]
    pub slots: i32,
}

impl Offer {
    /// As the core counts it; cut off at `now` where it goes on.
    pub fn offered(&self, now: Moment) -> Offered {
        Offered {
            from: self.since.0,
            until: self.until.map_or(now, |at| at.0),
            slots: self.slots.max(0).unsigned_abs(),
        }
    }

    /// What its sums are kept by.
    pub fn keys(&self) -> Vec<RollupKey> {
        vec![
            RollupKey::Yard,
            RollupKey::Pool(self.pool_id.0),
            RollupKey::Runner(self.runner_id.0),
        ]
    }
}

/// What a runner offers from a moment on.
#[derive(Clone, Copy, Debug)]
pub struct NewOffer {
    pub runner: RunnerId,
    pub since: Moment,
    /// How many slots; none when it takes nothing.
    pub slots: u32,
}

/// What these runners offer now, as the record has them: slots of the ones that are connected and take work, and whose pool is
/// not paused. With their pools.
pub async fn offers_now(
    connection: &mut Connection,
    runners: &[Uuid],
) -> Result<Vec<(RunnerId, u32)>> {
    #[derive(QueryableByName)]
    struct Now {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
        #[diesel(sql_type = Integer)]
        slots: i32,
    }
    let rows: Vec<Now> = sql!(
        "select r.id, case when r.state in ('available', 'busy') and not p.paused then r.slots else 0 end as slots
         from runner r join pool p on p.id = r.pool_id where r.id = any(:runners)";
        runners: Array<SqlUuid> = runners,
    )
    .load(connection)
    .await?;
    let now = |row: Now| (row.id.0, row.slots.max(0).unsigned_abs());
    Ok(rows.into_iter().map(now).collect())
}

/// The runners of these pools that are not retired.
pub async fn members(connection: &mut Connection, pools: &[Uuid]) -> Result<Vec<Uuid>> {
    #[derive(QueryableByName)]
    struct Id {
        #[diesel(sql_type = SqlUuid)]
        id: Uuid,
    }
    let rows: Vec<Id> = sql!(
        "select id from runner where pool_id = any(:pools) and state <> 'retired'";
        pools: Array<SqlUuid> = pools,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// Ends the stretches of runners that offer another number of slots by now, begins their next, and adds what is over.
pub async fn add_offers(
    connection: &mut Connection,
    known: &mut KeyCache,
    new: &[NewOffer],
) -> Result<()> {
    if new.is_empty() {
        return Ok(());
    }
    let small = |slots: u32| i32::try_from(slots).unwrap_or(i32::MAX);
    let runners: Vec<Db<RunnerId>> = new.iter().map(|one| Db(one.runner)).collect();
    let since: Vec<Db<Moment>> = new.iter().map(|one| Db(one.since)).collect();
    let slots: Vec<i32> = new.iter().map(|one| small(one.slots)).collect();
    let ended: Vec<Offer> = sql!(
        "update offered_span o set until = greatest(w.since, o.since)
         from unnest(:runners, :since, :slots) as w(runner_id, since, slots)
         where o.runner_id = w.runner_id and o.until is null and o.slots <> w.slots
         returning o.runner_id, o.pool_id, o.since, o.until, o.slots";
        runners: Array<SqlUuid> = &runners,
        since: Array<Timestamptz> = &since,
        slots: Array<Integer> = &slots,
    )
    .load(connection)
    .await?;
    sql!(
        "insert into offered_span (runner_id, pool_id, since, slots)
         select w.runner_id, r.pool_id, w.since, w.slots
         from unnest(:runners, :since, :slots) as w(runner_id, since, slots) join runner r on r.id = w.runner_id
         where w.slots > 0
           and not exists (select from offered_span o where o.runner_id = w.runner_id and o.until is null)
         on conflict (runner_id, since) do update set until = null, slots = excluded.slots";
        runners: Array<SqlUuid> = &runners,
        since: Array<Timestamptz> = &since,
        slots: Array<Integer> = &slots,
    )
    .execute(connection)
    .await?;
    count_offers(connection, known, &ended).await
}

/// Adds stretches of offers that are over.
pub async fn count_offers(
    connection: &mut Connection,
    known: &mut KeyCache,
    ended: &[Offer],
) -> Result<()> {
    let parts = ended.iter().map(|one| {
        let time = one.offered(Moment::default());
        (one.keys(), move |resolution| time.cells(resolution))
    });
    add_up(connection, known, parts).await
}

/// Records a stretch of an offer that is over, as history brings it.
pub async fn record_offer(connection: &mut Connection, offer: &Offer) -> Result<()> {
    sql!(
        "insert into offered_span (runner_id, pool_id, since, until, slots) values (:runner_id, :pool_id, :since, :until, :slots)
         on conflict do nothing";
        runner_id: SqlUuid = offer.runner_id,
        pool_id: SqlUuid = offer.pool_id,
        since: Timestamptz = offer.since,
        until: Nullable<Timestamptz> = offer.until,
        slots: Integer = offer.slots,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Stretches of offers that go on.
pub async fn open_offers(connection: &mut Connection) -> Result<Vec<Offer>> {
    Ok(
        sql!(
            "select runner_id, pool_id, since, until, slots from offered_span where until is null"
        )
        .load(connection)
        .await?,
    )
}

/// Stretches of offers that are over, after one, in order; some at a time.
pub async fn offers_over(
    connection: &mut Connection,
    after: Option<(RunnerId, Moment)>,
    most: i64,
) -> Result<Vec<Offer>> {
    let (runner, since) = after.unwrap_or((RunnerId(Uuid::nil()), Moment::default()));
    Ok(sql!(
        "select runner_id, pool_id, since, until, slots from offered_span
         where (runner_id, since) > (:runner, :since) and until is not null order by runner_id, since limit :most";
        runner: SqlUuid = Db(runner),
        since: Timestamptz = Db(since),
        most: BigInt = most,
    )
    .load(connection)
    .await?)
}

/// Forgets offers that ended before a moment; some at a time.
pub async fn forget_offers(
    connection: &mut Connection,
    before: Moment,
    most: i64,
) -> Result<usize> {
    Ok(sql!(
        "delete from offered_span where (runner_id, since) in (
           select runner_id, since from offered_span where until < :before limit :most)";
        before: Timestamptz = Db(before),
        most: BigInt = most,
    )
    .execute(connection)
    .await?)
}
