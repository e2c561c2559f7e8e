//! History is partitioned by month: parts are made ahead of time, and dropped whole when they are old enough.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Nullable, Text, Timestamptz};
use pennine_core::time::Moment;
use std::time::Duration;

/// How far ahead partitions are made: far enough that a service that was off for a month still has them.
const AHEAD: Duration = Duration::from_secs(65 * 86_400);

/// Makes the partitions for everything from `since` until some time after `now`.
pub async fn ensure(connection: &mut Connection, since: Moment, now: Moment) -> Result<()> {
    sql!(
        "select make_partitions(:since, :until)";
        since: Timestamptz = Db(since),
        until: Timestamptz = Db(now + AHEAD),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// What there was of jobs.
pub const OF_JOBS: [&str; 5] = ["job", "attempt", "run", "work_span", "strand_visit"];
/// How many waited and ran, and what was decided of machines.
pub const OF_LEVELS: [&str; 3] = ["queue_sample", "pool_sample", "decision"];
/// Sums over stretches of time.
pub const OF_SUMS: [&str; 1] = ["rollup"];
/// What changed, for who reads on.
pub const OF_FEED: [&str; 1] = ["outbox"];
/// Who did what.
pub const OF_AUDIT: [&str; 1] = ["audit"];

/// Drops the oldest part of a table that ended before a moment, and says which. It does not wait long for locks: use a
/// connection with short limits, and try again later.
pub async fn drop_before(
    connection: &mut Connection,
    table: &str,
    before: Moment,
) -> Result<Option<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Nullable<Text>)]
        name: Option<String>,
    }
    let row: Row = sql!(
        "select drop_partition(:table, :before) as name";
        table: Text = table,
        before: Timestamptz = Db(before),
    )
    .get_result(connection)
    .await?;
    Ok(row.name)
}

/// Before when nothing of jobs is needed any more: what is asked for, but not while a job of that time is still open or not
/// counted among the sums.
pub async fn jobs_over_before(connection: &mut Connection, wanted: Moment) -> Result<Moment> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    let row: Row = sql!(
        "select least(:wanted, (select min(created_at) from job where open),
                       (select min(created_at) from job where finished_at >= (select at from measure_cursor))) as at";
        wanted: Timestamptz = Db(wanted),
    )
    .get_result(connection)
    .await?;
    Ok(row.at.0)
}
