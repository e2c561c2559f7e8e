//! Runs of a job sheet: their records, their jobs as a graph, and what follows when one of the jobs has ended.
//!
//! What ends a job of such a run holds the run's lock from before the job's own ([`lock_of`]), so that two jobs that end at the same
//! time do not each see the other open. The core decides what follows; [`apply`] writes it in the same transaction.

mod graph;
mod submission;

pub use graph::{
    AttemptedJob, GraphRow, add_again, graph, job_of, make_ready, release, replace, set_finished,
    skip,
};
pub use submission::{NewGraphJob, NewRun, submit};

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{Array, BigInt, Bool, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{JobId, PlaceId, RunId, SourceId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::sheet::{NewerRun, RunOverrides};
use pennine_core::time::Moment;
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
