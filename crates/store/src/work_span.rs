//! Work spans that are over and counted: the jobs behind a figure.

use crate::connect::Connection;
use crate::error::Result;
use crate::rollup::{self, RollupKey, RollupKind};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::Reason;
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Moment;
use std::cmp::Reverse;
use std::time::Duration;
use uuid::Uuid;

/// A filter of work spans that waited at some time in the window.
#[derive(Clone, Debug)]
pub struct SpanFilter {
    pub from: Moment,
    pub until: Moment,
    /// Only spans whose wait includes this reason.
    pub reason: Option<Reason>,
    pub pool: Option<PoolId>,
    pub projects: Option<Vec<PlaceId>>,
    /// The sums that they are behind.
    pub keys: Vec<RollupKey>,
    pub limit: i64,
}

/// A work span, with the names of things.
#[derive(Clone, Debug, QueryableByName)]
pub struct FinishedSpan {
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub pool: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub runner: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Timestamptz)]
    pub ended_at: Db<Moment>,
    #[diesel(sql_type = BigInt)]
    pub waited_us: i64,
    /// In the order of [`Reason::ALL`].
    #[diesel(sql_type = Array<BigInt>)]
    pub reasons: Vec<i64>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = BigInt)]
    pub processor_us: i64,
    #[diesel(sql_type = BigInt)]
    pub peak_memory: i64,
}

/// A window up to this is searched by time; a longer one from the longest wait down.
const SEARCHED: Duration = Duration::from_secs(3 * 86_400);
/// The statement, with what the candidates are in order of, and how many there are: in the text, since how they are best
/// found depends on it.
macro_rules! longest_waits {
    ($order:literal, $limit:literal) => {
        concat!(
            "select s.job_number, j.title, p.path as project, j.requirement, pool.name as pool, r.name as runner, s.ready_at,
                    s.started_at, s.ended_at, s.waited_us, s.reasons, s.result, s.processor_us, s.peak_memory
             from (
               select * from work_span
               where ready_at < :until
                 and ready_at >= :from - (select coalesce(max(waited_us), 0) from work_span) * interval '1 microsecond'
                 and ready_at + waited_us * interval '1 microsecond' > :from
                 and (:reason::integer = 0 or reasons[greatest(:reason::integer, 1)] > 0)
                 and (:pool::uuid is null or pool_id = :pool)
                 and (:projects::uuid[] is null or project_id = any(:projects))
                 and (:runners::uuid[] is null or runner_id = any(:runners))
                 and (:requirements::bigint[] is null or requirement = any(:requirements))
                 and (:titles::bigint[] is null or title = any(:titles))
                 and (:suppliers::uuid[] is null or runner_id in (select runner_id from machine where supplier_id = any(:suppliers)))
               order by ", $order, " desc limit ", $limit, ") s
             join job j on j.id = s.job_id
             join place p on p.id = s.project_id
             left join pool on pool.id = s.pool_id
             left join runner r on r.id = s.runner_id"
        )
    };
}

/// The longest waits: in total, or for the given reason. In a window of more than three days, what waited
/// for a reason is looked for among the thousand longest waits that were for it in part; in a shorter one among twenty
/// thousand.
pub async fn longest(connection: &mut Connection, which: &SpanFilter) -> Result<Vec<FinishedSpan>> {
    let of_kind = |wanted: RollupKind| which.keys.iter().any(|key| key.kind() == wanted);
    let ids = |id: fn(&RollupKey) -> Option<Uuid>| {
        let ids: Vec<Uuid> = which.keys.iter().filter_map(id).collect();
        (!ids.is_empty()).then_some(ids)
    };
    let numbers = if of_kind(RollupKind::Requirement) || of_kind(RollupKind::Title) {
        rollup::numbers(connection, &which.keys).await?
    } else {
        Vec::new()
    };
    let words = |wanted: RollupKind| of_kind(wanted).then(|| numbers.clone());
    let runner = |key: &RollupKey| match key {
        RollupKey::Runner(id) => Some(id.0),
        _ => None,
    };
    let supplier = |key: &RollupKey| match key {
        RollupKey::Supplier(id) => Some(id.0),
        _ => None,
    };
    let place = which
        .reason
        .and_then(|reason| Reason::ALL.iter().position(|one| *one == reason));
    // Places of PostgreSQL's lists count from 1; 0 is for none.
    let reason = place.and_then(|place| i32::try_from(place + 1).ok());
    let projects = which.projects.as_ref();
    let projects = projects.map(|all| all.iter().map(|id| id.0).collect::<Vec<_>>());
    let by_time = which.until.since(which.from) <= SEARCHED;
    macro_rules! asked {
        ($order:literal, $limit:literal) => {
            sql!(
                longest_waits!($order, $limit);
                until: Timestamptz = Db(which.until),
                from: Timestamptz = Db(which.from),
                reason: Integer = reason.unwrap_or(0),
                pool: Nullable<SqlUuid> = which.pool.map(Db),
                projects: Nullable<Array<SqlUuid>> = projects,
                runners: Nullable<Array<SqlUuid>> = ids(runner),
                requirements: Nullable<Array<BigInt>> = words(RollupKind::Requirement),
                titles: Nullable<Array<BigInt>> = words(RollupKind::Title),
                suppliers: Nullable<Array<SqlUuid>> = ids(supplier),
            )
        };
    }
    let asked = if by_time {
        // Not the column itself, so that no index on it is thought to help.
        asked!("waited_us + 0", "20000")
    } else {
        asked!("waited_us", "1000")
    };
    let mut found: Vec<FinishedSpan> = asked.load(connection).await?;
    let length = |past: &FinishedSpan| match place {
        None => past.waited_us,
        Some(place) => past.reasons.get(place).copied().unwrap_or(0),
    };
    found.sort_by_key(|past| Reverse(length(past)));
    found.truncate(usize::try_from(which.limit).unwrap_or(0));
    Ok(found)
}

/// A work span with everything that is known of it.
#[derive(Clone, Debug, QueryableByName)]
pub struct RecordedSpan {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub assigned_at: Option<Db<Moment>>,
    #[diesel(embed)]
    pub past: FinishedSpan,
}

/// Work spans that became ready in a window, in that order; at most `limit`, after a given one.
pub async fn between(
    connection: &mut Connection,
    (from, after): (Moment, Uuid),
    until: Moment,
    most: i64,
) -> Result<Vec<RecordedSpan>> {
    Ok(sql!(
        "select s.id, s.assigned_at, s.job_number, j.title, p.path as project, j.requirement, pool.name as pool,
                r.name as runner, s.ready_at, s.started_at, s.ended_at, s.waited_us, s.reasons, s.result, s.processor_us,
                s.peak_memory
         from (select * from work_span where (ready_at, id) > (:from, :after) and ready_at < :until order by ready_at, id limit :most) s
         join job j on j.id = s.job_id
         join place p on p.id = s.project_id
         left join pool on pool.id = s.pool_id
         left join runner r on r.id = s.runner_id
         order by s.ready_at, s.id";
        from: Timestamptz = Db(from),
        after: SqlUuid = after,
        until: Timestamptz = Db(until),
        most: BigInt = most,
    )
    .load(connection)
    .await?)
}
