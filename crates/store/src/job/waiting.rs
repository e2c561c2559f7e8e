//! Waiting jobs, and what ends their wait: giving up, cancellation, and a move to another strand.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::statement::sql;
use crate::types::{Db, words};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::Band;
use pennine_core::id::{JobId, RunnerId, StrandId};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::outcome;
use pennine_core::time::Moment;

/// A waiting job, as the dispatcher needs it.
#[derive(Clone, Debug, QueryableByName)]
pub struct WaitingJob {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: Db<Moment>,
    /// Since when it waits this time.
    #[diesel(sql_type = Timestamptz)]
    pub waits_since: Db<Moment>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub avoid_runner: Option<Db<RunnerId>>,
}

/// Every job that waits for a runner: what a new leader begins with.
pub async fn all_waiting(connection: &mut Connection) -> Result<Vec<WaitingJob>> {
    Ok(sql!(
        "select id, number, strand_id, ready_at, waits_since, avoid_runner from job
         where state = :pending and open and current_attempt is null";
        pending: Text = Db(JobState::Pending),
    )
    .load(connection)
    .await?)
}

/// Which of these jobs wait for a runner, as they are now.
pub async fn waiting_among(connection: &mut Connection, jobs: &[JobId]) -> Result<Vec<WaitingJob>> {
    Ok(sql!(
        "select id, number, strand_id, ready_at, waits_since, avoid_runner from job
         where id = any(:jobs) and state = :pending and current_attempt is null";
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
        pending: Text = Db(JobState::Pending),
    )
    .load(connection)
    .await?)
}

/// Returns jobs that wait and were to give up by now, with the time at which they were to; the first `limit` of them.
pub async fn due_to_give_up(
    connection: &mut Connection,
    now: Moment,
    limit: i64,
) -> Result<Vec<(JobId, Moment)>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<JobId>,
        #[diesel(sql_type = Timestamptz)]
        give_up_at: Db<Moment>,
    }
    let rows: Vec<Row> = sql!(
        "select id, give_up_at from job
         where open and state = 'pending' and current_attempt is null and give_up_at <= :now limit :limit";
        now: Timestamptz = Db(now),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    let due = rows.into_iter().map(|row| (row.id.0, row.give_up_at.0));
    Ok(due.collect())
}

/// Returns the waiting jobs of these strands that are not to wait where nothing can match them.
pub async fn fail_unmatched_now(
    connection: &mut Connection,
    strands: &[StrandId],
) -> Result<Vec<JobId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<JobId>,
    }
    let rows: Vec<Row> = sql!(
        "select id from job where open and state = 'pending' and current_attempt is null
           and strand_id = any(:strands) and fail_unmatched";
        strands: Array<SqlUuid> = strands.iter().map(|id| id.0).collect::<Vec<_>>(),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// How a waiting job ends.
#[derive(Clone, Debug)]
pub struct WaitEnd {
    pub job: JobId,
    pub result: Outcome,
    pub message: String,
}

/// Ends jobs that still wait, under the fence. Returns their numbers.
pub async fn end_waiting(
    connection: &mut Connection,
    epoch: Epoch,
    ends: &[WaitEnd],
    at: Moment,
) -> Result<Vec<i64>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        number: i64,
    }
    let rows: Vec<Row> = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
         ends as (select * from unnest(:jobs, :results, :messages) as e(job, result, message)),
         j as (
           update job set state = :done, result = ends.result, finished_at = :at, message = ends.message
           from fence, ends
           where job.id = ends.job and open and state = :pending and current_attempt is null
           returning job.id, job.number, job.result),
         o as ("
        change JobDone { job: "id", result: "result" } at ":at" from "j"
        ")
         select number from j";
        epoch: BigInt = epoch.0,
        jobs: Array<SqlUuid> = ends.iter().map(|end| end.job.0).collect::<Vec<_>>(),
        results: Array<Text> = ends.iter().map(|end| Db(end.result)).collect::<Vec<_>>(),
        messages: Array<Text> = ends.iter().map(|end| end.message.as_str()).collect::<Vec<_>>(),
        done: Text = Db(JobState::Done),
        pending: Text = Db(JobState::Pending),
        at: Timestamptz = Db(at),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.number).collect())
}

/// Moves a waiting job to another strand, of this band; it keeps its place by age.
pub async fn move_to(
    connection: &mut Connection,
    job: JobId,
    band: Band,
    strand: StrandId,
    at: Moment,
) -> Result<bool> {
    let moved = sql!(
        "with was as (
           select id, strand_id from job
           where id = :job and state = 'pending' and current_attempt is null and strand_id <> :strand for update),
         j as (
           update job set band = :band, strand_id = :strand from was where job.id = was.id
           returning job.id, job.strand_id, was.strand_id as left_strand, number, project_id, fail_unmatched),
         l as (insert into strand_visit (job_id, strand_id, until) select id, left_strand, :at from j)"
         change JobPending { job: "id", strand: "strand_id", project: "project_id", number: "number", again: "true", fail_unmatched: "fail_unmatched" } at ":at" from "j";
        job: SqlUuid = Db(job),
        band: Text = Db(band),
        strand: SqlUuid = Db(strand),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(moved > 0)
}

/// What became of a request to cancel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cancelled {
    /// It was waiting and is done now.
    AtOnce,
    /// Its runner will be told to end it.
    Asked,
    /// It was done already, or was asked for before.
    Nothing,
}

/// Cancels a job: at once when no runner has it, by asking the runner otherwise.
pub async fn cancel(
    connection: &mut Connection,
    job: JobId,
    by: &str,
    at: Moment,
) -> Result<Cancelled> {
    let cancelled = cancel_all(connection, &[job], by, at).await?;
    Ok(match cancelled.first() {
        Some(one) if one.at_once => Cancelled::AtOnce,
        Some(_) => Cancelled::Asked,
        None => Cancelled::Nothing,
    })
}

/// A job that was cancelled.
#[derive(Clone, Debug, QueryableByName)]
pub struct CancelledJob {
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    /// The path of its project.
    #[diesel(sql_type = Text)]
    pub project: String,
    /// Whether it is over, or else its runner was asked.
    #[diesel(sql_type = Bool)]
    pub at_once: bool,
}

/// Cancels jobs, each as [`cancel`] does. Returns those to which that made a difference.
pub async fn cancel_all(
    connection: &mut Connection,
    jobs: &[JobId],
    by: &str,
    at: Moment,
) -> Result<Vec<CancelledJob>> {
    let open = words(&JobState::before(JobEvent::Finish, JobState::Done));
    Ok(sql!(
        "with ended as (
           update job set state = :done, result = :cancellation, message = :message, finished_at = :at, cancel_at = :at,
                  cancel_by = :by
           where id = any(:jobs) and state = any(:open) and current_attempt is null returning id, number, project_id),
         asked as (
           update job set cancel_at = :at, cancel_by = :by
           where id = any(:jobs) and state = any(:open) and current_attempt is not null and cancel_at is null
           returning id, number, project_id, current_attempt),
         o1 as ("
           change JobDone { job: "id", result: ":cancellation::text" } at ":at" from "ended"
           "),
         o2 as ("
           change JobCancelling { job: "asked.id", attempt: "a.id", runner: "a.runner_id" } at ":at" from "asked join attempt a on a.id = asked.current_attempt"
           ")
         select c.number, c.at_once, p.path as project
         from (select number, project_id, true as at_once from ended union all select number, project_id, false from asked) c
         join place p on p.id = c.project_id";
        done: Text = Db(JobState::Done),
        cancellation: Text = Db(Outcome::Cancellation),
        message: Text = outcome::cancelled(by),
        by: Text = by,
        at: Timestamptz = Db(at),
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
        open: Array<Text> = &open,
    )
    .load(connection)
    .await?)
}
