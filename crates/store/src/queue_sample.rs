//! Readings of the whole yard over time, for the skyline.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::yard_level;
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
        yard_level::at.eq(Db(at)),
        yard_level::waiting.eq(small(level.waiting)),
        yard_level::executing.eq(small(level.executing)),
        yard_level::idle.eq(small(level.idle)),
        yard_level::coming.eq(small(level.coming)),
    );
    diesel::insert_into(yard_level::table)
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
        yard_level::at,
        yard_level::waiting,
        yard_level::executing,
        yard_level::idle,
        yard_level::coming,
    );
    let before = yard_level::table
        .select(columns)
        .filter(yard_level::at.le(Db(from)))
        .order(yard_level::at.desc())
        .first::<(Db<Moment>, i32, i32, i32, i32)>(connection)
        .await
        .optional()?;
    let after = yard_level::table
        .select(columns)
        .filter(yard_level::at.gt(Db(from)))
        .order(yard_level::at)
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
