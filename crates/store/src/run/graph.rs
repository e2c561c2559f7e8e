//! The jobs of a run as a graph, and what follows in it: jobs made ready, skipped, released, and put in the places of others.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{AttemptId, JobId, RunId};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::run::GraphJob;
use pennine_core::sheet::{Need, OnFailure};
use pennine_core::time::Moment;

/// The job of an attempt, where it belongs to a run of a sheet: what decides about another attempt after a failure.
#[derive(Clone, Debug, QueryableByName)]
pub struct AttemptedJob {
    #[diesel(sql_type = SqlUuid)]
    pub job_id: Db<JobId>,
    #[diesel(sql_type = Text)]
    pub on_failure: Db<OnFailure>,
    /// How often its command has failed.
    #[diesel(sql_type = Integer)]
    pub failures: i32,
    #[diesel(sql_type = Integer)]
    pub failure_tries: i32,
    /// Whether its cancellation was asked for.
    #[diesel(sql_type = Bool)]
    pub is_cancelled: bool,
}

/// Returns the job of an attempt, where it belongs to a run of a sheet.
///
/// # Errors
/// Where the database does not answer.
pub async fn job_of(
    connection: &mut Connection,
    attempt: AttemptId,
) -> Result<Option<AttemptedJob>> {
    Ok(sql!(
        "select a.job_id, j.on_failure, j.failures, j.failure_tries, j.cancel_at is not null as is_cancelled from attempt a join job j on j.id = a.job_id
         where a.id = :attempt and j.position is not null";
        attempt: SqlUuid = Db(attempt),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// A job of a run, as its part in the graph.
#[derive(Clone, Debug, QueryableByName)]
pub struct GraphRow {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = Integer)]
    pub position: i32,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub state: Db<JobState>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = Jsonb)]
    pub needs: Json<Vec<Need>>,
    #[diesel(sql_type = Text)]
    pub on_failure: Db<OnFailure>,
    #[diesel(sql_type = Bool)]
    pub needs_release: bool,
    #[diesel(sql_type = Bool)]
    pub is_assigned: bool,
    /// Whether it ended before a retry of a part of the run was asked for.
    #[diesel(sql_type = Bool)]
    pub is_settled: bool,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub finished_at: Option<Db<Moment>>,
}

impl GraphRow {
    /// Returns the job as the core sees it.
    pub fn job(&self) -> GraphJob {
        GraphJob {
            name: self.title.clone(),
            state: self.state.0,
            result: self.result.map(|result| result.0),
            needs: self.needs.0.clone(),
            on_failure: self.on_failure.0,
            needs_release: self.needs_release,
            is_assigned: self.is_assigned,
            is_settled: self.is_settled,
        }
    }
}

/// The jobs of a run by their positions, without replaced ones.
///
/// # Errors
/// Where the database does not answer.
pub async fn graph(connection: &mut Connection, run: RunId) -> Result<Vec<GraphRow>> {
    Ok(sql!(
        "select j.id, j.number, j.position, j.title, j.state, j.result, j.needs, j.on_failure, j.hold and j.released_at is null as needs_release,
                j.current_attempt is not null as is_assigned, coalesce(j.finished_at <= r.resumed_at, false) as is_settled, j.finished_at
         from job j join run r on r.id = j.run_id
         where j.run_id = :run and j.position is not null and j.retried_as is null order by j.position";
        run: SqlUuid = Db(run),
    )
    .load(connection)
    .await?)
}

/// Makes held jobs wait for a runner. Returns the jobs that were still held. Needs the run's lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn make_ready(
    connection: &mut Connection,
    jobs: &[JobId],
    at: Moment,
) -> Result<Vec<JobId>> {
    let rows: Vec<JobIdRow> = sql!(
        "with j as (
           update job set state = :pending, ready_at = :at, waits_since = :at,
                  give_up_at = :at::timestamptz + give_up_us * interval '1 microsecond'
           where id = any(:jobs) and state = any(:before) returning *),
         o as ("
        change JobPending { job: "id", strand: "strand_id", project: "project_id", number: "number", again: "false", fail_unmatched: "fail_unmatched" } at ":at" from "j"
        ")
         select id from j";
        pending: Text = Db(JobState::Pending),
        at: Timestamptz = Db(at),
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
        before: Array<Text> = words(&JobState::before(JobEvent::Release, JobState::Pending)),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

#[derive(QueryableByName)]
struct JobIdRow {
    #[diesel(sql_type = SqlUuid)]
    id: Db<JobId>,
}

/// Skips jobs that no runner has, each with its message. Returns the skipped jobs. Needs the run's lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn skip(
    connection: &mut Connection,
    jobs: &[(JobId, String)],
    at: Moment,
) -> Result<Vec<JobId>> {
    let rows: Vec<JobIdRow> = sql!(
        "with s as (select * from unnest(:jobs, :messages) as s(job, message)),
         j as (
           update job set state = :done, result = :skip, message = s.message, finished_at = :at
           from s where job.id = s.job and state = any(:before) and current_attempt is null returning job.id, job.result),
         o as ("
        change JobDone { job: "id", result: "result" } at ":at" from "j"
        ")
         select id from j";
        jobs: Array<SqlUuid> = jobs.iter().map(|(job, _)| job.0).collect::<Vec<_>>(),
        messages: Array<Text> = jobs.iter().map(|(_, message)| message.as_str()).collect::<Vec<_>>(),
        done: Text = Db(JobState::Done),
        skip: Text = Db(Outcome::Skip),
        at: Timestamptz = Db(at),
        before: Array<Text> = words(&[JobState::Held, JobState::Pending]),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Records when the last job of a run was done; nothing where a job is open.
///
/// # Errors
/// Where the database does not answer.
pub async fn set_finished(
    connection: &mut Connection,
    run: RunId,
    finished: Option<Moment>,
) -> Result<()> {
    sql!(
        "update run set finished_at = :finished where id = :run and finished_at is distinct from :finished";
        finished: Nullable<Timestamptz> = finished.map(Db),
        run: SqlUuid = Db(run),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Records who has released a held job. Whether it was waiting for that. Needs the run's lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn release(
    connection: &mut Connection,
    job: JobId,
    by: &str,
    at: Moment,
) -> Result<bool> {
    let released = sql!(
        "update job set released_at = :at, released_by = :by where id = :job and state = :held and hold and released_at is null";
        at: Timestamptz = Db(at),
        by: Text = by,
        job: SqlUuid = Db(job),
        held: Text = Db(JobState::Held),
    )
    .execute(connection)
    .await?;
    Ok(released > 0)
}

/// Adds a held job to a run for each of these old ones, with the same work. Needs the run's lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn add_again(
    connection: &mut Connection,
    again: &[(JobId, JobId)],
    at: Moment,
) -> Result<()> {
    sql!(
        "insert into job (id, run_id, project_id, strand_id, state, title, requirement, command, commands, variables, secrets, time_limit_us,
                          tries, created_at, band, seats, trust, give_up_us, fail_unmatched, position, needs, on_failure,
                          failure_tries, hold)
         select s.new, run_id, project_id, strand_id, :held, title, requirement, command, commands, variables, secrets, time_limit_us,
                tries, :at, band, seats, trust, give_up_us, fail_unmatched, position, needs, on_failure, failure_tries, hold
         from unnest(:old, :new) as s(old, new) join job j on j.id = s.old order by position";
        held: Text = Db(JobState::Held),
        at: Timestamptz = Db(at),
        old: Array<SqlUuid> = again.iter().map(|(old, _)| old.0).collect::<Vec<_>>(),
        new: Array<SqlUuid> = again.iter().map(|(_, new)| new.0).collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Puts new jobs in the place of others of their run, and notes that what ended before no longer stops other jobs. Needs the
/// run's lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn replace(
    connection: &mut Connection,
    run: RunId,
    replaced: &[(JobId, JobId)],
    at: Moment,
) -> Result<()> {
    sql!(
        "with s as (select * from unnest(:old, :new) as s(old, new)),
         j as (
           update job set retried_as = n.number from s join job n on n.id = s.new where job.id = s.old returning job.id)
         update run set resumed_at = :at, finished_at = null where id = :run";
        old: Array<SqlUuid> = replaced.iter().map(|(old, _)| old.0).collect::<Vec<_>>(),
        new: Array<SqlUuid> = replaced.iter().map(|(_, new)| new.0).collect::<Vec<_>>(),
        at: Timestamptz = Db(at),
        run: SqlUuid = Db(run),
    )
    .execute(connection)
    .await?;
    Ok(())
}
