//! What runners did: their last attempts, and the states that they were in.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Moment;

/// What a runner did: one attempt as the strip of its time shows it.
#[derive(Clone, Debug, QueryableByName)]
pub struct TimelineSpan {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Timestamptz)]
    pub assigned_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub finished_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = Bool)]
    pub accepted: bool,
    #[diesel(sql_type = Nullable<Text>)]
    pub message: Option<String>,
}

/// The last attempts of each of these runners, up to a number per runner, without the ones that ended before a moment; newest
/// first.
pub async fn recent_attempts(
    connection: &mut Connection,
    runners: &[RunnerId],
    since: Moment,
    most: i64,
) -> Result<Vec<TimelineSpan>> {
    Ok(sql!(
        "select w.runner_id, j.number as job_number, j.title, p.path as project, a.assigned_at, a.started_at,
                a.finished_at, a.result, a.accepted, a.message
         from unnest(:runners) as w(runner_id)
         cross join lateral (
           select * from attempt a where a.runner_id = w.runner_id order by a.id desc limit :most) a
         join job j on j.id = a.job_id join place p on p.id = j.project_id
         where a.finished_at is null or a.finished_at > :since
         order by a.id desc";
        runners: Array<SqlUuid> = runners.iter().map(|id| id.0).collect::<Vec<_>>(),
        most: BigInt = most,
        since: Timestamptz = Db(since),
    )
    .load(connection)
    .await?)
}

/// A state that a runner came into.
#[derive(Clone, Debug, QueryableByName)]
pub struct StateChange {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = Timestamptz)]
    pub at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub state: Db<RunnerState>,
    #[diesel(sql_type = Text)]
    pub reason: String,
}

/// The changes of state of these runners since a moment, and the one before it; the oldest first.
pub async fn states(
    connection: &mut Connection,
    ids: &[RunnerId],
    since: Moment,
) -> Result<Vec<StateChange>> {
    Ok(sql!(
        "with told as (
           select subject as runner_id, at, id,
                  coalesce(body ->> 'state', case kind when 'runner.awaited' then 'awaited'
                                                      when 'runner.joined' then 'offline'
                                                      when 'runner.retired' then 'retired' end) as state,
                  coalesce(body ->> 'reason', '') as reason
           from outbox where subject = any(:ids) and kind like 'runner.%'),
         known as (select * from told where state is not null)
         select runner_id, at, state, reason from (
           select k.*, lead(at) over (partition by runner_id order by at, id) as next from known k) k
         where next is null or next > :since
         order by runner_id, at, id";
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<_>>(),
        since: Timestamptz = Db(since),
    )
    .load(connection)
    .await?)
}
