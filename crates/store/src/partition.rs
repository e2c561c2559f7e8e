//! History is partitioned by month.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::Db;
use diesel::sql_types::Timestamptz;
use pennine_core::time::Moment;
use std::time::Duration;

/// How far ahead partitions are made: far enough that a service that was off for a month still has them.
const AHEAD: Duration = Duration::from_secs(65 * 86_400);

/// Makes the partitions for everything from `since` until some time after `now`.
pub async fn ensure(connection: &mut Connection, since: Moment, now: Moment) -> Result<()> {
    statement("select make_partitions($1, $2)")
        .bind::<Timestamptz, _>(Db(since))
        .bind::<Timestamptz, _>(Db(now + AHEAD))
        .execute(connection)
        .await?;
    Ok(())
}
