//! What has made the leader's state of dispatch inconsistent, and is left out where it did so again.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Integer, Jsonb, Text, Timestamptz};
use pennine_core::dispatch::{Entity, Inconsistency};
use pennine_core::time::Moment;
use std::time::Duration;

/// How long something counts. What made the state inconsistent longer ago than this is retried.
pub const COUNTS_FOR: Duration = Duration::from_secs(3600);
/// What made the state inconsistent so often within that time is left out.
const TIMES: i32 = 2;

/// Something that is left out of dispatch.
#[derive(Clone, Debug, QueryableByName)]
pub struct SetAside {
    #[diesel(sql_type = Jsonb)]
    pub entity: Json<Entity>,
    /// Why, in words.
    #[diesel(sql_type = Text)]
    pub problem: String,
    #[diesel(sql_type = Timestamptz)]
    pub first_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub last_at: Db<Moment>,
}

/// Notes that something has made the state inconsistent. Returns whether it is left out from now on.
pub async fn note(
    connection: &mut Connection,
    entity: Entity,
    found: &Inconsistency,
    at: Moment,
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Integer)]
        times: i32,
    }
    let row: Row = sql!(
        "insert into set_aside as s (entity, problem, times, first_at, last_at)
         values (:entity, :problem, 1, :at, :at)
         on conflict (entity) do update set
           problem = excluded.problem, last_at = excluded.last_at,
           times = case when s.last_at > :since then s.times + 1 else 1 end,
           first_at = case when s.last_at > :since then s.first_at else excluded.first_at end
         returning times";
        entity: Jsonb = Json(entity),
        problem: Text = found.problem.to_string(),
        at: Timestamptz = Db(at),
        since: Timestamptz = Db(at - COUNTS_FOR),
    )
    .get_result(connection)
    .await?;
    Ok(row.times >= TIMES)
}

/// What is left out of dispatch at a moment, the newest first.
pub async fn list(connection: &mut Connection, now: Moment) -> Result<Vec<SetAside>> {
    Ok(sql!(
        "select entity, problem, first_at, last_at from set_aside
         where times >= :times and last_at > :since order by last_at desc";
        times: Integer = TIMES,
        since: Timestamptz = Db(now - COUNTS_FOR),
    )
    .load(connection)
    .await?)
}
