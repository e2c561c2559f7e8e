//! Days that are over are drawn together into stretches of ten, so that a year that begins in the middle of a month is read
//! from a few dozen sums of each key.
//!
//! It is done once for each stretch, from the sums of its days. What is added later to a day of such a stretch is added to the
//! stretch too.

use super::{MeasureRevision, lock_at, progress, revision};
use crate::connect::{Connection, in_transaction};
use crate::error::Result;
use crate::rollup::{self, RollupKind, Sum};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Nullable, SmallInt, Timestamptz};
use pennine_core::measure::{Resolution, Run};
use pennine_core::time::Moment;

#[derive(QueryableByName)]
struct At {
    #[diesel(sql_type = Nullable<Timestamptz>)]
    at: Option<Db<Moment>>,
}

/// Up to when days are drawn together into tens.
pub async fn compacted_until(connection: &mut Connection) -> Result<Moment> {
    let row: At = sql!("select compacted_until as at from measure_cursor")
        .get_result(connection)
        .await?;
    Ok(row.at.map_or_else(Moment::default, |at| at.0))
}

/// Forgets what was drawn together of stretches from a moment on, whose sums are cleared.
pub(super) async fn forget(connection: &mut Connection, since: Moment) -> Result<()> {
    sql!(
        "update measure_cursor set compacted_until = least(compacted_until, :from)";
        from: Timestamptz = Db(Resolution::TenDays.start(since)),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The next stretch to be drawn together, where it is over and everything of it was counted.
async fn next(connection: &mut Connection) -> Result<Option<Run>> {
    let until = compacted_until(connection).await?;
    // The yard has a sum of each day on which there was anything.
    let first: At = sql!(
        "select min(at) as at from rollup where resolution = :resolution and kind = :kind and at >= :until";
        resolution: SmallInt = Resolution::Day.code(),
        kind: SmallInt = RollupKind::Yard.code(),
        until: Timestamptz = Db(until),
    )
    .get_result(connection)
    .await?;
    let Some(Db(first)) = first.at else {
        return Ok(None);
    };
    let run = Run {
        resolution: Resolution::Day,
        from: Resolution::TenDays.start(first),
        until: Resolution::TenDays.end(first),
    };
    let (_, counted) = progress(connection).await?;
    Ok((run.until <= counted).then_some(run))
}

/// What the days of a stretch come to.
async fn sums(connection: &mut Connection, run: Run) -> Result<Vec<Sum>> {
    let mut all = Vec::new();
    for kind in RollupKind::ALL {
        let days = rollup::stored_sums(connection, run, kind, None).await?;
        all.extend(rollup::merge_stretches(
            Resolution::TenDays,
            kind,
            run.from,
            days,
        )?);
    }
    Ok(all)
}

async fn put(connection: &mut Connection, run: Run, sums: Vec<Sum>) -> Result<()> {
    rollup::put_all(connection, sums).await?;
    sql!(
        "update measure_cursor set compacted_until = :until";
        until: Timestamptz = Db(run.until),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Compacts the next finished period. Returns true when there was one, or when another writer intervened and the call is to be
/// repeated.
pub async fn compact(connection: &mut Connection) -> Result<bool> {
    let (_, before): (_, MeasureRevision) = revision(connection).await?;
    let Some(run) = next(connection).await? else {
        return Ok(false);
    };
    let ready = sums(connection, run).await?;
    in_transaction(connection, async |connection| {
        if lock_at(connection, before).await? {
            put(connection, run, ready).await?;
        }
        Ok(true)
    })
    .await
}

/// Compacts every finished period, within a transaction that excludes other writers.
pub(super) async fn compact_all(connection: &mut Connection) -> Result<()> {
    while let Some(run) = next(connection).await? {
        let ready = sums(connection, run).await?;
        put(connection, run, ready).await?;
    }
    Ok(())
}
