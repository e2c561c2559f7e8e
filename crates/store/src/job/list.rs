//! Which jobs there are: lists, and the jobs of a run.

use super::Job;
use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, words};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Nullable, Text, Uuid as SqlUuid};
use pennine_core::id::{JobId, PlaceId, RunId};
use pennine_core::lifecycle::job::{JobState, Outcome};

/// Which jobs to list.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    /// Only these states; every state when empty.
    pub states: Vec<JobState>,
    /// Only jobs of the project at this path or, of a team, of the projects below it.
    pub place: Option<String>,
    /// Only jobs of these places and of what is below them; all of them if there is no list.
    pub visible: Option<Vec<String>>,
    /// Only jobs with a smaller number.
    pub before: Option<i64>,
    /// Only jobs with this number or a greater one.
    pub from: Option<i64>,
    /// Only jobs that contain this text somewhere, in upper or lower case; all of them if it is empty.
    pub search: String,
}

/// Jobs, newest first.
pub async fn list(connection: &mut Connection, filter: &Filter, limit: i64) -> Result<Vec<Job>> {
    let states = if filter.states.is_empty() {
        JobState::ALL.to_vec()
    } else {
        filter.states.clone()
    };
    let place = filter.place.clone().unwrap_or_default();
    Ok(sql!(
        job_query!(
        "where j.state = any(:states) and (:place = '' or p.path = :place or starts_with(p.path, :place || '/'))
           and (:visible::text[] is null or is_below_any(p.path, :visible))
           and (:before::bigint is null or j.number < :before)
           and (:from::bigint is null or j.number >= :from)
           and (:search = '' or strpos(lower(concat_ws(' ', 'j-' || j.number, j.title, p.path, j.requirement, j.result,
                  r.created_by, (select u.name from attempt a join runner u on u.id = a.runner_id
                                 where a.id = j.current_attempt))), lower(:search)) > 0)
         order by j.number desc limit :limit"
    );
        states: Array<Text> = words(&states),
        place: Text = &place,
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        search: Text = &filter.search,
        before: Nullable<BigInt> = filter.before,
        from: Nullable<BigInt> = filter.from,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

#[derive(QueryableByName)]
pub(crate) struct NumberRow {
    #[diesel(sql_type = BigInt)]
    number: i64,
}

/// Returns the number of the newest job; 0 if there are none.
pub async fn newest_number(connection: &mut Connection) -> Result<i64> {
    let row: NumberRow = sql!("select coalesce(max(number), 0) as number from job";)
        .get_result(connection)
        .await?;
    Ok(row.number)
}

/// The jobs of a run by their places in it, without replaced ones.
pub async fn of_run(connection: &mut Connection, run: RunId) -> Result<Vec<Job>> {
    Ok(sql!(
        job_query!(
        "where (r.only_job is null and j.run_id = :run and j.position is not null and j.retried_as is null)
            or j.id = (select only_job from run where id = :run)
         order by j.position"
    );
        run: SqlUuid = Db(run),
    )
    .load(connection)
    .await?)
}

/// Returns jobs by their ids, in the order in which they became ready.
pub async fn with_ids(connection: &mut Connection, ids: &[JobId]) -> Result<Vec<Job>> {
    Ok(sql!(
        job_query!(
        "where j.id = any(:ids) order by j.ready_at, j.number"
    );
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<_>>(),
    )
    .load(connection)
    .await?)
}

/// Returns those of some jobs whose projects are at or below these places.
pub async fn visible(
    connection: &mut Connection,
    ids: &[JobId],
    places: &[String],
) -> Result<Vec<JobId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<JobId>,
    }
    let rows: Vec<Row> = sql!(
        "select j.id from job j join place p on p.id = j.project_id
         where j.id = any(:ids) and is_below_any(p.path, :places)";
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<_>>(),
        places: Array<Text> = places,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Returns the running jobs, then the ones that ended last: only those at some places and below them, where a list is given.
pub async fn latest(
    connection: &mut Connection,
    visible: Option<&[String]>,
    limit: i64,
) -> Result<Vec<Job>> {
    if visible.is_none() {
        return Ok(sql!(
            job_query!(
            "where j.id = any(array(
                 (select job_id from attempt where open and started_at is not null order by started_at desc limit :limit)
                 union all
                 (select id from job where finished_at is not null order by finished_at desc limit :limit)))
             order by (j.state = 'done'), coalesce(j.finished_at, j.started_at) desc limit :limit"
        );
            limit: BigInt = limit,
        )
        .load(connection)
        .await?);
    }
    Ok(sql!(
        job_query!(
        "where j.id = any(array(
             (select a.job_id from attempt a join job x on x.id = a.job_id join place q on q.id = x.project_id
              where a.open and a.started_at is not null and is_below_any(q.path, :visible)
              order by a.started_at desc limit :limit)
             union all
             (select x.id from job x join place q on q.id = x.project_id
              where x.finished_at is not null and is_below_any(q.path, :visible)
              order by x.finished_at desc limit :limit)))
         order by (j.state = 'done'), coalesce(j.finished_at, j.started_at) desc limit :limit"
    );
        visible: Nullable<Array<Text>> = visible,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// How many jobs have a runner: only those at some places and below them, where a list is given.
pub async fn with_runner(connection: &mut Connection, visible: Option<&[String]>) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        jobs: i64,
    }
    let row: Row = match visible {
        None => {
            sql!("select count(*) as jobs from attempt where open")
                .get_result(connection)
                .await?
        }
        Some(visible) => {
            sql!(
                "select count(*) as jobs from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
                 where a.open and is_below_any(p.path, :visible)";
                visible: Array<Text> = visible,
            )
            .get_result(connection)
            .await?
        }
    };
    Ok(row.jobs)
}

/// Returns the earlier jobs of a project with the same title that have succeeded, latest first: as far as they are among the 50,000 jobs
/// before this number.
///
/// # Errors
/// Where the database does not answer.
pub async fn similar(
    connection: &mut Connection,
    project: &str,
    title: &str,
    before: i64,
    limit: i64,
) -> Result<Vec<Job>> {
    Ok(sql!(
        job_query!(
        "where p.path = :project and j.title = :title and j.number < :before and j.number >= :before - 50000 and j.result = :success
         order by j.number desc limit :limit"
    );
        project: Text = project,
        title: Text = title,
        before: BigInt = before,
        success: Text = Db(Outcome::Success),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Jobs with a runner, by project and state.
pub async fn active(connection: &mut Connection) -> Result<Vec<(PlaceId, JobState, i64)>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        project_id: Db<PlaceId>,
        #[diesel(sql_type = Text)]
        state: Db<JobState>,
        #[diesel(sql_type = BigInt)]
        jobs: i64,
    }
    let rows: Vec<Row> = sql!(
        "select j.project_id, j.state, count(*) as jobs from attempt a join job j on j.id = a.job_id
         where a.open group by j.project_id, j.state order by 1, 2"
    )
    .load(connection)
    .await?;
    let one = |row: Row| (row.project_id.0, row.state.0, row.jobs);
    Ok(rows.into_iter().map(one).collect())
}
