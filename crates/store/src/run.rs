//! Runs of a job sheet: their records, their jobs as a graph, and what follows when one of the jobs has ended.
//!
//! What ends a job of such a run holds the run's lock from before the job's own ([`lock_of`]), so that two jobs that end at the same
//! time do not each see the other open. The core decides what follows; [`apply`] writes it in the same transaction.

use crate::audit::Permit;
use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::dispatch::{Band, SeatNeeds};
use pennine_core::id::{AttemptId, JobId, PlaceId, RunId, SourceId, StrandId};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::run::GraphJob;
use pennine_core::secret::SecretUses;
use pennine_core::sheet::{Need, NewerRun, OnFailure, RunOverrides};
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use serde::Serialize;
use std::collections::BTreeMap;

/// A run, with its project's path.
#[derive(Clone, Debug, QueryableByName)]
pub struct Run {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<RunId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = Text)]
    pub project: String,
    /// Its own, or that of its only job.
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub branch: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub revision: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub event: Option<String>,
    #[diesel(sql_type = Jsonb)]
    pub values: Json<BTreeMap<String, String>>,
    /// The archive with which its jobs begin; it may have been removed.
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub source_id: Option<Db<SourceId>>,
    /// The address of the repository with which they begin.
    #[diesel(sql_type = Nullable<Text>)]
    pub repository: Option<String>,
    /// What it does otherwise than its sheet says.
    #[diesel(sql_type = Jsonb)]
    pub overrides: Json<RunOverrides>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    /// Whether it was made from a job sheet.
    #[diesel(sql_type = Bool)]
    pub has_sheet: bool,
    /// The number of the job that was submitted alone.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub only_job: Option<i64>,
    /// The number of the run that has overtaken it.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub overtaken_by: Option<i64>,
    /// When its last job was done.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub finished_at: Option<Db<Moment>>,
    /// The states of its jobs, without replaced ones.
    #[diesel(sql_type = Array<Text>)]
    pub states: Vec<Db<JobState>>,
    /// The results of the jobs that are done.
    #[diesel(sql_type = Array<Text>)]
    pub results: Vec<Db<Outcome>>,
}

/// The columns of [`Run`], for `run r` and `place p`. A run of one job that was submitted alone has the job's title, state and end.
macro_rules! run_query {
    ($rest:literal) => {
        concat!(
            "select r.id, r.number, p.path as project, coalesce(o.title, r.title) as title, r.branch, r.revision, r.event, r.values, r.source_id,
                    r.repository, r.overrides,
                    r.created_at, r.created_by, r.sheet is not null as has_sheet, o.number as only_job,
                    r.overtaken_by,
                    coalesce(o.finished_at, r.finished_at) as finished_at,
                    coalesce(g.states, array_remove(array[o.state], null)) as states,
                    coalesce(g.results, array_remove(array[o.result], null)) as results
             from run r join place p on p.id = r.project_id
             left join job o on o.id = r.only_job
             left join lateral (
               select array_agg(j.state order by j.position) as states, array_agg(j.result order by j.position) filter (where j.result is not null) as results
               from job j where r.only_job is null and j.run_id = r.id and j.position is not null and j.retried_as is null) g on true ",
            $rest
        )
    };
}

/// The run with this id or this number.
///
/// # Errors
/// Where the database does not answer.
pub async fn find(
    connection: &mut Connection,
    id: Option<RunId>,
    number: Option<i64>,
) -> Result<Option<Run>> {
    Ok(sql!(
        run_query!("where r.id = :id or r.number = :number");
        id: Nullable<SqlUuid> = id.map(Db),
        number: Nullable<BigInt> = number,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Which runs to list.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    /// Only runs of the project at this path or, of a team, of the projects below it.
    pub place: Option<String>,
    /// Only runs of these places and of what is below them; all of them if there is no list.
    pub visible: Option<Vec<String>>,
    /// Only runs of job sheets.
    pub with_sheet: bool,
    /// Only runs of this branch.
    pub branch: Option<String>,
    /// Only runs with a smaller number.
    pub before: Option<i64>,
    /// Only runs from this number on.
    pub from: Option<i64>,
    /// Only runs whose name, title, project, branch, revision or submitter contains this text.
    pub search: String,
}

/// Lists runs, the newest first.
///
/// # Errors
/// Where the database does not answer.
pub async fn list(connection: &mut Connection, filter: &Filter, limit: i64) -> Result<Vec<Run>> {
    Ok(sql!(
        run_query!(
        "where (:place::text is null or p.path = :place or starts_with(p.path, :place || '/'))
           and (:visible::text[] is null or is_below_any(p.path, :visible))
           and (not :with_sheet or r.sheet is not null)
           and (:branch::text is null or r.branch = :branch)
           and (:before::bigint is null or r.number < :before)
           and (:from::bigint is null or r.number >= :from)
           and (:search = '' or strpos(lower(concat_ws(' ', 'run-' || r.number, coalesce(o.title, r.title), p.path, r.branch, r.revision,
                  r.created_by)), lower(:search)) > 0)
         order by r.number desc limit :limit"
    );
        place: Nullable<Text> = &filter.place,
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        with_sheet: Bool = filter.with_sheet,
        branch: Nullable<Text> = &filter.branch,
        before: Nullable<BigInt> = filter.before,
        from: Nullable<BigInt> = filter.from,
        search: Text = &filter.search,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Returns the number of the newest run; 0 if there are none.
///
/// # Errors
/// Where the database does not answer.
pub async fn newest_number(connection: &mut Connection) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        number: i64,
    }
    let row: Row = sql!("select coalesce(max(number), 0) as number from run";)
        .get_result(connection)
        .await?;
    Ok(row.number)
}

/// What to make a run from.
#[derive(Clone, Debug)]
pub struct NewRun {
    pub id: RunId,
    pub project: PlaceId,
    pub title: String,
    pub branch: Option<String>,
    pub revision: Option<String>,
    pub event: Option<String>,
    pub values: BTreeMap<String, String>,
    /// The sheet's text, as it was submitted.
    pub sheet: String,
    /// The archive with which its jobs begin.
    pub source: Option<SourceId>,
    /// The address of the repository with which they begin, at its revision.
    pub repository: Option<String>,
    pub overrides: RunOverrides,
    pub newer_run: NewerRun,
    pub jobs: Vec<NewGraphJob>,
    pub by: Permit,
    pub at: Moment,
}

/// A job of a run of a sheet, as it is stored.
#[derive(Clone, Debug, Serialize)]
pub struct NewGraphJob {
    pub id: JobId,
    pub position: usize,
    pub strand: StrandId,
    /// `held`, or `pending` where it waits for nothing.
    pub state: JobState,
    pub title: String,
    pub requirement: String,
    pub command: Vec<String>,
    /// Its commands, where the sheet lists them; they are `command` together.
    pub commands: Vec<String>,
    pub variables: BTreeMap<String, String>,
    pub secrets: SecretUses,
    pub time_limit: Micros,
    /// How many attempts may be lost.
    pub tries: u32,
    pub band: Band,
    pub seats: SeatNeeds,
    pub trust: Trust,
    pub give_up: Option<Micros>,
    pub fail_unmatched: bool,
    pub needs: Vec<Need>,
    pub on_failure: OnFailure,
    /// How often its command may fail, where a failure is tried again.
    pub failure_tries: u32,
    /// Whether a person has to release it.
    pub hold: bool,
}

/// Stores a run of a sheet, its jobs, their changes and an audit row. Needs a transaction.
///
/// # Errors
/// A duplicate where the run exists already.
pub async fn submit(connection: &mut Connection, new: NewRun) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        number: i64,
    }
    let row: Row = sql!(
        "insert into run (id, project_id, created_at, created_by, title, branch, revision, event, values, sheet, newer_run, source_id, repository, overrides)
         values (:run, :project, :at, :by, :title, :branch, :revision, :event, :values, :sheet, :newer_run, :source, :repository, :overrides) returning number";
        run: SqlUuid = Db(new.id),
        project: SqlUuid = Db(new.project),
        at: Timestamptz = Db(new.at),
        by: Text = &new.by.actor.name,
        title: Text = new.title,
        branch: Nullable<Text> = new.branch,
        revision: Nullable<Text> = new.revision,
        event: Nullable<Text> = new.event,
        values: Jsonb = Json(new.values),
        sheet: Text = new.sheet,
        newer_run: Text = Db(new.newer_run),
        source: Nullable<SqlUuid> = new.source.map(Db),
        repository: Nullable<Text> = new.repository,
        overrides: Jsonb = Json(new.overrides),
    )
    .get_result(connection)
    .await?;
    add_jobs(connection, (new.id, new.project), new.jobs, new.at).await?;
    Ok(row.number)
}

/// Adds the jobs of a new run, with the changes of the ready ones.
async fn add_jobs(
    connection: &mut Connection,
    (run, project): (RunId, PlaceId),
    jobs: Vec<NewGraphJob>,
    at: Moment,
) -> Result<()> {
    sql!(
        "with t as (
           select * from jsonb_to_recordset(:jobs) as t(
             id uuid, position integer, strand uuid, state text, title text, requirement text, command jsonb, commands jsonb, variables jsonb,
             secrets jsonb, time_limit bigint, tries integer, band text, seats jsonb, trust text, give_up bigint,
             fail_unmatched boolean, needs jsonb, on_failure text, failure_tries integer, hold boolean)),
         j as (
           insert into job (id, run_id, project_id, strand_id, state, title, requirement, command, commands, variables, secrets,
                            time_limit_us, tries, created_at, ready_at, waits_since, band, seats, trust, give_up_us, give_up_at,
                            fail_unmatched, position, needs, on_failure, failure_tries, hold)
           select id, :run, :project, strand, state, title, requirement, command, commands, variables, secrets, time_limit, tries, :at,
                  case when state = :pending then :at::timestamptz end, case when state = :pending then :at::timestamptz end, band, seats, trust, give_up,
                  case when state = :pending then :at::timestamptz + give_up * interval '1 microsecond' end,
                  fail_unmatched, position, needs, on_failure, failure_tries, hold
           from t order by position returning *)"
        change JobPending { job: "id", strand: "strand_id", project: "project_id", number: "number", again: "false", fail_unmatched: "fail_unmatched" } at ":at" from "j where state = :pending";
        jobs: Jsonb = Json(jobs),
        run: SqlUuid = Db(run),
        project: SqlUuid = Db(project),
        at: Timestamptz = Db(at),
        pending: Text = Db(JobState::Pending),
    )
    .execute(connection)
    .await?;
    Ok(())
}

#[derive(QueryableByName)]
struct RunIdRow {
    #[diesel(sql_type = SqlUuid)]
    id: Db<RunId>,
}

/// Locks the runs of sheets to which these jobs belong, until the end of the transaction, and returns them. Runs are locked before
/// their jobs, and in one order.
///
/// # Errors
/// Where the database does not answer.
pub async fn lock_of(connection: &mut Connection, jobs: &[JobId]) -> Result<Vec<RunId>> {
    let rows: Vec<RunIdRow> = sql!(
        "select r.id from run r
         where r.id in (select run_id from job where id = any(:jobs) and position is not null)
         order by r.id for update";
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Locks one run.
///
/// # Errors
/// Where the database does not answer.
pub async fn lock(connection: &mut Connection, run: RunId) -> Result<()> {
    let _: RunIdRow = sql!(
        "select id from run where id = :run for update";
        run: SqlUuid = Db(run),
    )
    .get_result(connection)
    .await?;
    Ok(())
}

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

/// Locks the open runs of a project's branch that a newer one overtakes, the oldest first.
///
/// # Errors
/// Where the database does not answer.
pub async fn lock_overtaken(
    connection: &mut Connection,
    project: PlaceId,
    branch: &str,
    newer: RunId,
) -> Result<Vec<RunId>> {
    let rows: Vec<RunIdRow> = sql!(
        "select id from run
         where project_id = :project and branch = :branch and sheet is not null and finished_at is null
           and newer_run = :cancel and id <> :newer and overtaken_by is null
         order by id for update";
        project: SqlUuid = Db(project),
        branch: Text = branch,
        cancel: Text = Db(NewerRun::Cancel),
        newer: SqlUuid = Db(newer),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Records which run has overtaken others.
///
/// # Errors
/// Where the database does not answer.
pub async fn set_overtaken(connection: &mut Connection, runs: &[RunId], by: i64) -> Result<()> {
    sql!(
        "update run set overtaken_by = :by where id = any(:runs)";
        by: BigInt = by,
        runs: Array<SqlUuid> = runs.iter().map(|run| run.0).collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The run to which a job belongs.
///
/// # Errors
/// Where the database does not answer.
pub async fn of_job(connection: &mut Connection, job: JobId) -> Result<Option<RunId>> {
    let row: Option<RunIdRow> = sql!(
        "select run_id as id from job where id = :job and position is not null";
        job: SqlUuid = Db(job),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.id.0))
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
