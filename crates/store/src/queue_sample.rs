//! Readings of the whole yard over time, for the skyline.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::queue_sample;
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use pennine_core::queue_sample::QueueSample;
use pennine_core::time::Moment;

fn small(count: u32) -> i32 {
    i32::try_from(count).unwrap_or(i32::MAX)
}

/// Records a reading. A second one for the same moment is dropped.
pub async fn write(connection: &mut Connection, at: Moment, level: QueueSample) -> Result<()> {
    let row = (
        queue_sample::at.eq(Db(at)),
        queue_sample::waiting.eq(small(level.waiting)),
        queue_sample::executing.eq(small(level.executing)),
        queue_sample::idle.eq(small(level.idle)),
        queue_sample::coming.eq(small(level.coming)),
    );
    diesel::insert_into(queue_sample::table)
        .values(row)
        .on_conflict_do_nothing()
        .execute(connection)
        .await?;
    Ok(())
}

/// The readings from the last one at or before `from` on, oldest first.
pub async fn since(
    connection: &mut Connection,
    from: Moment,
) -> Result<Vec<(Moment, QueueSample)>> {
    let columns = (
        queue_sample::at,
        queue_sample::waiting,
        queue_sample::executing,
        queue_sample::idle,
        queue_sample::coming,
    );
    let before = queue_sample::table
        .select(columns)
        .filter(queue_sample::at.le(Db(from)))
        .order(queue_sample::at.desc())
        .first::<(Db<Moment>, i32, i32, i32, i32)>(connection)
        .await
        .optional()?;
    let after = queue_sample::table
        .select(columns)
        .filter(queue_sample::at.gt(Db(from)))
        .order(queue_sample::at)
        .load::<(Db<Moment>, i32, i32, i32, i32)>(connection)
        .await?;
    let count = |n: i32| n.max(0).unsigned_abs();
    let level = |(at, waiting, executing, idle, coming): (Db<Moment>, i32, i32, i32, i32)| {
        let level = QueueSample {
            waiting: count(waiting),
            executing: count(executing),
            idle: count(idle),
            coming: count(coming),
        };
        (at.0, level)
    };
    Ok(before.into_iter().chain(after).map(level).collect())
}
