//! When runners were last heard of.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{Array, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{RunnerId, SessionId};
use pennine_core::time::Moment;

/// When a runner's session was last heard of.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct LastHeard {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = SqlUuid)]
    pub session: Db<SessionId>,
    #[diesel(sql_type = Timestamptz)]
    pub seen_at: Db<Moment>,
    /// When its connection was closed, with no poll after it.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub closed_at: Option<Db<Moment>>,
    /// From where, as far as is known.
    #[diesel(sql_type = Nullable<Text>)]
    pub peer: Option<String>,
}

/// Writes what a replica saw since the last time. Nothing goes back in time.
pub async fn flush_seen(connection: &mut Connection, seen: &[LastHeard]) -> Result<()> {
    if seen.is_empty() {
        return Ok(());
    }
    sql!(
        "insert into runner_presence (runner_id, session, seen_at, closed_at, peer)
         select * from unnest(:runner_ids, :sessions, :seen_ats, :closed_ats, :peers)
         on conflict (runner_id) do update
         set session = excluded.session, seen_at = excluded.seen_at, closed_at = excluded.closed_at,
             peer = coalesce(excluded.peer, runner_presence.peer)
         where excluded.seen_at >= runner_presence.seen_at";
        runner_ids: Array<SqlUuid> = seen.iter().map(|s| s.runner_id).collect::<Vec<_>>(),
        sessions: Array<SqlUuid> = seen.iter().map(|s| s.session).collect::<Vec<_>>(),
        seen_ats: Array<Timestamptz> = seen.iter().map(|s| s.seen_at).collect::<Vec<_>>(),
        closed_ats: Array<Nullable<Timestamptz>> = seen.iter().map(|s| s.closed_at).collect::<Vec<_>>(),
        peers: Array<Nullable<Text>> = seen.iter().map(|s| s.peer.clone()).collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// When each runner was last heard of.
pub async fn seen(connection: &mut Connection) -> Result<Vec<LastHeard>> {
    Ok(
        sql!("select runner_id, session, seen_at, closed_at, peer from runner_presence")
            .load(connection)
            .await?,
    )
}

/// When one runner was last heard of.
pub async fn seen_of(connection: &mut Connection, id: RunnerId) -> Result<Option<LastHeard>> {
    Ok(sql!(
        "select runner_id, session, seen_at, closed_at, peer from runner_presence where runner_id = :id";
        id: SqlUuid = Db(id),
    )
    .get_result(connection)
    .await
    .optional()?)
}
