//! Adds finished work to the sums, exactly once: work spans of jobs, offers of runners, machines.
//!
//! `measure_cursor` holds the position in the change feed; its row is locked during an update, so that nothing is added twice. Added
//! work has a row of its own (`work_span`) or a mark. The same functions rebuild all sums from the record, to the same bytes.

mod compaction;
mod machines;
mod offers;
mod work_spans;

pub use compaction::{compact, compacted_until};
pub use machines::*;
pub use offers::*;
pub use work_spans::*;

use crate::connect::{Connection, in_transaction};
use crate::error::Result;
use crate::outbox::Cursor;
use crate::partition;
use crate::rollup::{self, KeyCache, RollupKey, Sums};
use crate::statement::{Statement, sql};
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Timestamptz};
use pennine_core::measure::{Cells, Resolution};
use pennine_core::time::Moment;
use std::collections::BTreeSet;
use uuid::Uuid;

/// How many jobs are rebuilt at once.
const REBUILT_AT_ONCE: i64 = 2000;

macro_rules! measured {
    () => {
        "select id, at, revision from measure_cursor"
    };
}

/// Returns the position in the change feed, and up to when finished work is counted.
pub async fn progress(connection: &mut Connection) -> Result<(Cursor, Moment)> {
    let (cursor, at, _) = read(sql!(measured!()), connection).await?;
    Ok((cursor, at))
}

/// As [`progress`], and locks the sums until the transaction ends; sums that others prepared become invalid.
pub async fn lock(connection: &mut Connection) -> Result<(Cursor, Moment)> {
    let asked =
        sql!("update measure_cursor set revision = revision + 1 returning id, at, revision");
    let (cursor, at, _) = read(asked, connection).await?;
    Ok((cursor, at))
}

/// Counts the updates of the sums.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct MeasureRevision(i64);

/// Returns the position in the change feed and the revision, for a caller that prepares sums.
pub async fn revision(connection: &mut Connection) -> Result<(Cursor, MeasureRevision)> {
    let (cursor, _, revision) = read(sql!(measured!()), connection).await?;
    Ok((cursor, revision))
}

/// As [`lock`], unless the sums were updated since: then returns false.
pub async fn lock_at(connection: &mut Connection, revision: MeasureRevision) -> Result<bool> {
    let locked = sql!(
        "update measure_cursor set revision = revision + 1 where revision = :revision";
        revision: BigInt = revision.0,
    )
    .execute(connection)
    .await?;
    Ok(locked == 1)
}

async fn read(
    asked: Statement<'_>,
    connection: &mut Connection,
) -> Result<(Cursor, Moment, MeasureRevision)> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        id: i64,
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
        #[diesel(sql_type = BigInt)]
        revision: i64,
    }
    let row: Row = asked.get_result(connection).await?;
    Ok((Cursor(row.id), row.at.0, MeasureRevision(row.revision)))
}

/// Stores the position in the feed.
pub async fn note_progress(connection: &mut Connection, cursor: Cursor, at: Moment) -> Result<()> {
    sql!(
        "update measure_cursor set id = :id, at = greatest(at, :at)";
        id: BigInt = cursor.0,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Adds things to the sums, each given by its keys and by its cells at a resolution.
async fn add_up<F: Fn(Resolution) -> Cells>(
    connection: &mut Connection,
    known: &mut KeyCache,
    parts: impl Iterator<Item = (Vec<RollupKey>, F)>,
) -> Result<()> {
    sums_of(connection, known, parts)
        .await?
        .write(connection)
        .await
}

/// Returns the sums of some things.
async fn sums_of<F: Fn(Resolution) -> Cells>(
    connection: &mut Connection,
    known: &mut KeyCache,
    parts: impl Iterator<Item = (Vec<RollupKey>, F)>,
) -> Result<Sums> {
    let parts: Vec<(Vec<RollupKey>, F)> = parts.collect();
    let keys = parts.iter().flat_map(|(keys, _)| keys).cloned();
    known.numbers(connection, keys).await?;
    let drawn = compacted_until(connection).await?;
    let wanted = |resolution: Resolution, at: Moment| {
        // Days that are not compacted yet will be once they are complete.
        known.wants(at) && (resolution != Resolution::TenDays || at < drawn)
    };
    let mut sums = Sums::default();
    for (keys, cells) in &parts {
        let kept =
            |resolution: &Resolution| keys.iter().any(|key| *resolution >= key.kind().shortest());
        for resolution in Resolution::ALL.into_iter().filter(kept) {
            let cells = cells(resolution);
            for (at, cell) in cells.into_iter().filter(|(at, _)| wanted(resolution, *at)) {
                for key in keys {
                    if let Some(number) = known.number(key) {
                        sums.add((resolution, key.kind(), number, at), &cell);
                    }
                }
            }
        }
    }
    Ok(sums)
}

/// The result of a rebuild.
#[derive(Clone, Copy, Debug, Default)]
pub struct Rebuilt {
    pub work_spans: u64,
    pub offers: u64,
    pub machines: u64,
}

/// Returns from when on sums can be rebuilt: the first month that is completely on record.
async fn complete_since(connection: &mut Connection) -> Result<Moment> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    let row: Row = sql!("select complete_since as at from measure_cursor")
        .get_result(connection)
        .await?;
    let at = row.at.0;
    Ok(match Resolution::Month.start(at) {
        start if start == at => at,
        _ => Resolution::Month.end(at),
    })
}

/// Records that the source of the sums before a moment is no longer complete.
pub async fn note_gone(connection: &mut Connection, before: Moment) -> Result<()> {
    sql!(
        "update measure_cursor set complete_since = :before where complete_since < :before";
        before: Timestamptz = Db(before),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Rebuilds all sums from the record, in one transaction that excludes other updates. Work that the feed reports later is recognised
/// by its mark. Sums of months that are not completely on record stay unchanged.
pub async fn rebuild(connection: &mut Connection, until: Moment) -> Result<Rebuilt> {
    in_transaction(connection, async |connection| {
        let (cursor, at) = lock(connection).await?;
        let since = complete_since(connection).await?;
        rollup::clear(connection, since).await?;
        compaction::forget(connection, since).await?;
        let (mut known, mut done) = (KeyCache::since(since), Rebuilt::default());
        let mut months = BTreeSet::new();
        let mut after = Uuid::nil();
        loop {
            let (rows, last) = over_after(connection, after, REBUILT_AT_ONCE).await?;
            for row in &rows {
                // Sums are in the months of their jobs, which may be long ago.
                if months.insert(Resolution::Month.start(row.ready_at.0)) {
                    partition::ensure(connection, row.ready_at.0, row.ready_at.0).await?;
                }
            }
            done.work_spans += rows.len() as u64;
            add_work_spans(connection, &mut known, rows).await?;
            match last {
                Some(last) => after = last,
                None => break,
            }
        }
        let mut last = None;
        loop {
            let offers = offers_over(connection, last, REBUILT_AT_ONCE).await?;
            let Some(end) = offers.last() else { break };
            last = Some((end.runner_id.0, end.since.0));
            count_offers(connection, &mut known, &offers).await?;
            done.offers += offers.len() as u64;
        }
        done.machines = add_machines(connection, &mut known).await? as u64;
        note_progress(connection, cursor, at.max(until)).await?;
        compaction::compact_all(connection).await?;
        Ok(done)
    })
    .await
}
