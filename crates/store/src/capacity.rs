//! What was decided about pools' machines: written down in one transaction under the fence, before any supplier is asked.

use crate::connect::{Connection, in_transaction};
use crate::error::{Error, Result};
use crate::leadership::Epoch;
use crate::machine::{self, Machine, NewMachine};
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::capacity::{CapacityPlan, Numbers, PoolStanding};
use pennine_core::id::{MachineId, PoolId};
use pennine_core::lifecycle::machine::MachineEvent;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::queue_sample::QueueSample;
use pennine_core::time::Moment;

fn small(count: u32) -> i32 {
    i32::try_from(count).unwrap_or(i32::MAX)
}

/// What is written down.
pub struct Decision<'a> {
    pub decided: &'a CapacityPlan,
    /// The orders of it.
    pub new: &'a [NewMachine],
    /// Pools that stand otherwise than was last written.
    pub standings: &'a [PoolStanding],
}

/// How writing ends.
enum CommitError {
    Deposed,
    Record(Error),
}

impl From<Error> for CommitError {
    fn from(error: Error) -> Self {
        CommitError::Record(error)
    }
}

impl From<diesel::result::Error> for CommitError {
    fn from(error: diesel::result::Error) -> Self {
        CommitError::Record(error.into())
    }
}

/// What was written of a decision.
#[derive(Debug, Default)]
pub struct CommittedOrders {
    /// The machines that were ordered.
    pub ordered: Vec<Machine>,
    /// Machines to remove.
    pub released: Vec<Machine>,
}

/// Writes a decision down. None when another replica leads by now; nothing was changed then.
pub async fn commit(
    connection: &mut Connection,
    epoch: Epoch,
    at: Moment,
    decision: Decision<'_>,
) -> Result<Option<CommittedOrders>> {
    let written = in_transaction(connection, async |connection| {
        #[derive(QueryableByName)]
        struct Fence {
            #[diesel(sql_type = BigInt)]
            #[allow(dead_code)]
            epoch: i64,
        }
        let fence: Vec<Fence> = sql!(
            "select epoch from leadership where epoch = :epoch for share";
            epoch: BigInt = epoch.0,
        )
        .load(connection)
        .await?;
        if fence.is_empty() {
            return Err(CommitError::Deposed);
        }
        within(connection, at, &decision).await
    })
    .await;
    match written {
        Ok(written) => Ok(Some(written)),
        Err(CommitError::Deposed) => Ok(None),
        Err(CommitError::Record(error)) => Err(error),
    }
}

async fn within(
    connection: &mut Connection,
    at: Moment,
    decision: &Decision<'_>,
) -> std::result::Result<CommittedOrders, CommitError> {
    let decided = decision.decided;
    let why = "the keeper ordered it";
    let ordered = machine::order(connection, decision.new, "the keeper", why, at).await?;
    let mut released = Vec::new();
    for release in &decided.releases {
        let detail = machine::Detail::default();
        let event = MachineEvent::Release;
        let stepped = machine::step(
            connection,
            release.machine,
            event,
            &release.reason,
            &detail,
            at,
        )
        .await?;
        if release.failed {
            machine::note_failure(connection, release.machine, None).await?;
        }
        released.extend(stepped);
    }
    if !decided.drains.is_empty() {
        let runners: Vec<_> = decided.drains.iter().map(|one| Db(one.runner)).collect();
        sql!(
            "with r as (
               update runner set desired_state = :drain where id = any(:runners) and state not in ('retired', 'awaited') returning id)"
             change RunnerDesiredStateChanged { runner: "id", desired_state: "'drain'" } at ":at" from "r";
            drain: Text = Db(DesiredState::Drain),
            runners: Array<SqlUuid> = &runners,
            at: Timestamptz = Db(at),
        )
        .execute(connection)
        .await?;
    }
    if !decided.notes.is_empty() {
        let notes = &decided.notes;
        sql!(
            "with d as (
               insert into decision (at, pool_id, policy_version, verb, machines, message, numbers)
               select :at, p.id, p.policy_version, w.verb, w.machines, w.message, w.numbers
               from unnest(:pools, :verbs, :machines, :messages, :numbers) with ordinality as w(pool, verb, machines, message, numbers, n)
               join pool p on p.id = w.pool order by w.n
               returning pool_id)"
             change PoolDecided { pool: "pool_id" } at "distinct :at::timestamptz" from "d";
            at: Timestamptz = Db(at),
            pools: Array<SqlUuid> = notes.iter().map(|one| Db(one.pool)).collect::<Vec<_>>(),
            verbs: Array<Text> = notes.iter().map(|one| one.verb).collect::<Vec<_>>(),
            machines: Array<Integer> = notes.iter().map(|one| small(one.machines)).collect::<Vec<_>>(),
            messages: Array<Text> = notes.iter().map(|one| one.message.clone()).collect::<Vec<_>>(),
            numbers: Array<Jsonb> = notes.iter().map(|one| Json(one.numbers)).collect::<Vec<_>>(),
        )
        .execute(connection)
        .await?;
    }
    if !decision.standings.is_empty() {
        let pools = decision.standings;
        sql!(
            "insert into pool_standing (pool_id, coming, short, full_at, numbers)
             select * from unnest(:pools, :coming_slots, :short, :full, :numbers)
             on conflict (pool_id) do update set coming = excluded.coming, short = excluded.short,
               full_at = excluded.full_at, numbers = excluded.numbers";
            pools: Array<SqlUuid> = pools.iter().map(|one| Db(one.pool)).collect::<Vec<_>>(),
            coming_slots: Array<Integer> = pools
                .iter()
                .map(|one| small(one.coming_slots))
                .collect::<Vec<_>>(),
            short: Array<Nullable<Text>> = pools
                .iter()
                .map(|one| one.short.clone())
                .collect::<Vec<_>>(),
            full: Array<Nullable<Integer>> = pools
                .iter()
                .map(|one| one.full.map(small))
                .collect::<Vec<_>>(),
            numbers: Array<Jsonb> = pools
                .iter()
                .map(|one| Json(one.numbers))
                .collect::<Vec<_>>(),
        )
        .execute(connection)
        .await?;
    }
    Ok(CommittedOrders { ordered, released })
}

/// A decision as it was kept.
#[derive(Clone, Debug, QueryableByName)]
pub struct StoredDecision {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Text)]
    pub verb: String,
    #[diesel(sql_type = Integer)]
    pub machines: i32,
    #[diesel(sql_type = Text)]
    pub message: String,
    #[diesel(sql_type = Jsonb)]
    pub numbers: Json<Numbers>,
}

/// Which decisions.
pub struct DecisionFilter<'a> {
    /// Of this pool alone.
    pub pool: Option<PoolId>,
    /// Of pools whose owners are at or below these places; of all pools where none are given.
    pub visible: Option<&'a [String]>,
    /// With this text in their message, in upper or lower case; empty for all.
    pub search: &'a str,
    /// Those before this id.
    pub before: i64,
    /// Those made at this moment or later.
    pub since: Moment,
    /// The most that are returned.
    pub limit: i64,
}

/// Decisions, newest first.
pub async fn decisions(
    connection: &mut Connection,
    filter: DecisionFilter<'_>,
) -> Result<Vec<StoredDecision>> {
    Ok(sql!(
        "select d.id, d.at, p.name as pool, d.verb, d.machines, d.message, d.numbers
         from decision d join pool p on p.id = d.pool_id
         where (:pool::uuid is null or d.pool_id = :pool) and d.id < :before and d.at >= :since
           and (:search = '' or strpos(lower(d.message), lower(:search)) > 0)
           and (:visible::text[] is null or p.owner_id in (select id from place where is_below_any(path, :visible)))
         order by d.id desc limit :limit";
        pool: Nullable<SqlUuid> = filter.pool.map(Db),
        visible: Nullable<Array<Text>> = filter.visible,
        search: Text = filter.search,
        before: BigInt = filter.before,
        since: Timestamptz = Db(filter.since),
        limit: BigInt = filter.limit,
    )
    .load(connection)
    .await?)
}

/// Writes readings of pools; a second one of a pool for the same moment is dropped.
pub async fn write_levels(
    connection: &mut Connection,
    at: Moment,
    levels: &[(PoolId, QueueSample)],
) -> Result<()> {
    if levels.is_empty() {
        return Ok(());
    }
    let column = |of: fn(&QueueSample) -> u32| -> Vec<i32> {
        levels.iter().map(|(_, level)| small(of(level))).collect()
    };
    sql!(
        "insert into pool_sample (at, pool_id, waiting, executing, idle, coming)
         select :at, * from unnest(:pools, :waiting, :executing, :idle, :coming) on conflict do nothing";
        at: Timestamptz = Db(at),
        pools: Array<SqlUuid> = levels.iter().map(|(pool, _)| Db(*pool)).collect::<Vec<_>>(),
        waiting: Array<Integer> = column(|level| level.waiting),
        executing: Array<Integer> = column(|level| level.executing),
        idle: Array<Integer> = column(|level| level.idle),
        coming: Array<Integer> = column(|level| level.coming),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A pool's readings from the last one at or before `from` on, oldest first.
pub async fn levels(
    connection: &mut Connection,
    pool: PoolId,
    from: Moment,
) -> Result<Vec<(Moment, QueueSample)>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
        #[diesel(sql_type = Integer)]
        waiting: i32,
        #[diesel(sql_type = Integer)]
        executing: i32,
        #[diesel(sql_type = Integer)]
        idle: i32,
        #[diesel(sql_type = Integer)]
        coming: i32,
    }
    let rows: Vec<Row> = sql!(
        "(select at, waiting, executing, idle, coming from pool_sample where pool_id = :pool and at <= :from
          order by at desc limit 1)
         union all
         (select at, waiting, executing, idle, coming from pool_sample where pool_id = :pool and at > :from order by at)";
        pool: SqlUuid = Db(pool),
        from: Timestamptz = Db(from),
    )
    .load(connection)
    .await?;
    let count = |n: i32| n.max(0).unsigned_abs();
    let level = |row: Row| {
        let level = QueueSample {
            waiting: count(row.waiting),
            executing: count(row.executing),
            idle: count(row.idle),
            coming: count(row.coming),
        };
        (row.at.0, level)
    };
    Ok(rows.into_iter().map(level).collect())
}

/// The machine that a runner is on.
pub async fn machine_of(
    connection: &mut Connection,
    runner: pennine_core::id::RunnerId,
) -> Result<Option<MachineId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<MachineId>,
    }
    let rows: Vec<Row> = sql!(
        "select id from machine where runner_id = :runner limit 1";
        runner: SqlUuid = Db(runner),
    )
    .load(connection)
    .await?;
    Ok(rows.first().map(|row| row.id.0))
}
