//! Jobs.

use crate::audit::Permit;
use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::statement::sql;
use crate::types::{Db, Json, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::dispatch::{Band, SeatNeeds};
use pennine_core::id::{AttemptId, JobId, PlaceId, RunId, RunnerId, StrandId};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::outcome;
use pennine_core::secret::SecretUses;
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use std::collections::BTreeMap;

/// A job, with its project's path and its run's number.
#[derive(Clone, Debug, QueryableByName)]
pub struct Job {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = BigInt)]
    pub run_number: i64,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Text)]
    pub state: Db<JobState>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub message: Option<String>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub exit_code: Option<i32>,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Jsonb)]
    pub command: Json<Vec<String>>,
    #[diesel(sql_type = Jsonb)]
    pub variables: Json<BTreeMap<String, String>>,
    #[diesel(sql_type = Jsonb)]
    pub secrets: Json<SecretUses>,
    #[diesel(sql_type = BigInt)]
    pub time_limit_us: Db<Micros>,
    #[diesel(sql_type = Integer)]
    pub tries: i32,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ready_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub waits_since: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub finished_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub current_attempt: Option<Db<AttemptId>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub cancel_at: Option<Db<Moment>>,
    #[diesel(sql_type = Text)]
    pub band: Db<Band>,
    #[diesel(sql_type = Jsonb)]
    pub seats: Json<SeatNeeds>,
    #[diesel(sql_type = Text)]
    pub trust: Db<Trust>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub give_up_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub give_up_us: Option<Db<Micros>>,
    #[diesel(sql_type = Bool)]
    pub fail_unmatched: bool,
    /// The number of the job that was submitted in its place.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub retried_as: Option<i64>,
    /// Whether it belongs to a run of a job sheet.
    #[diesel(sql_type = Bool)]
    pub is_of_sheet: bool,
    /// The name of the person or token that has released it.
    #[diesel(sql_type = Nullable<Text>)]
    pub released_by: Option<String>,
}

/// The columns of [`Job`], for `job j`, `run r` and `place p`.
macro_rules! job_query {
    ($rest:literal) => {
        concat!(
            "select j.id, j.number, r.number as run_number, p.path as project, j.strand_id, j.state, j.result, j.message,
                    j.exit_code, j.title, j.requirement, j.command, j.variables, j.secrets, j.time_limit_us, j.tries,
                    j.created_at, j.ready_at, j.waits_since, j.started_at, j.finished_at, j.current_attempt, j.cancel_at,
                    j.band, j.seats, j.trust, j.give_up_at, j.give_up_us, j.fail_unmatched, j.retried_as,
                    j.position is not null as is_of_sheet, j.released_by
             from job j join run r on r.id = j.run_id join place p on p.id = j.project_id ",
            $rest
        )
    };
}

/// What to make a job from.
#[derive(Clone, Debug)]
pub struct NewJob {
    pub id: JobId,
    pub run: RunId,
    pub project: PlaceId,
    pub strand: StrandId,
    pub title: String,
    pub requirement: String,
    pub command: Vec<String>,
    pub variables: BTreeMap<String, String>,
    /// The secrets that it is given.
    pub secrets: SecretUses,
    pub time_limit: Micros,
    pub tries: u32,
    pub band: Band,
    pub seats: SeatNeeds,
    pub trust: Trust,
    /// How long it waits at most.
    pub give_up: Option<Micros>,
    /// Whether it fails at once when nothing could ever run it.
    pub fail_unmatched: bool,
    /// The job in whose place it comes.
    pub retries: Option<JobId>,
    pub by: Permit,
    pub at: Moment,
}

/// The numbers of a job and its run.
#[derive(Clone, Copy, Debug, QueryableByName)]
pub struct Numbers {
    #[diesel(sql_type = BigInt)]
    pub job: i64,
    #[diesel(sql_type = BigInt)]
    pub run: i64,
}

/// Takes a job: its run, its record, its change and its audit row, in one statement.
pub async fn submit(connection: &mut Connection, new: NewJob) -> Result<Numbers> {
    Ok(sql!(
        "with r as (
           insert into run (id, project_id, created_at, created_by, only_job) values (:run, :project, :at, :by, :id) returning *),
         j as (
           insert into job (id, run_id, project_id, strand_id, state, title, requirement, command, variables, secrets,
                            time_limit_us, tries, created_at, ready_at, waits_since, band, seats, trust, give_up_us, give_up_at,
                            fail_unmatched)
           select :id, r.id, r.project_id, :strand, :pending, :title, :requirement, :command, :variables, :secrets, :time_limit, :tries, r.created_at, r.created_at, r.created_at,
                  :band, :seats, :trust, :give_up, r.created_at + :give_up::bigint * interval '1 microsecond', :fail_unmatched
           from r returning *),
         o as ("
           change JobPending { job: "j.id", strand: "j.strand_id", project: "j.project_id", number: "j.number", again: "false", fail_unmatched: "j.fail_unmatched" } at "j.created_at" from "j"
           "),
         t as (update job set retried_as = j.number from j where job.id = :retries),
         a as (
           insert into audit (at, who, who_kind, address, request, place, what, subject, detail)
           select j.created_at, :by, :by_kind, :address, :request, :place, :what, 'j-' || j.number, '{}' from j)
         select j.number as job, r.number as run from j, r";
        run: SqlUuid = Db(new.run),
        project: SqlUuid = Db(new.project),
        at: Timestamptz = Db(new.at),
        by: Text = new.by.actor.name,
        by_kind: Text = Db(new.by.actor.kind),
        address: Nullable<Text> = new.by.actor.address,
        request: Nullable<Text> = new.by.actor.request,
        place: Text = new.by.place,
        id: SqlUuid = Db(new.id),
        strand: SqlUuid = Db(new.strand),
        pending: Text = Db(JobState::Pending),
        title: Text = new.title,
        requirement: Text = new.requirement,
        command: Jsonb = Json(new.command),
        variables: Jsonb = Json(new.variables),
        secrets: Jsonb = Json(new.secrets),
        time_limit: BigInt = Db(new.time_limit),
        tries: Integer = i32::try_from(new.tries).unwrap_or(i32::MAX),
        band: Text = Db(new.band),
        seats: Jsonb = Json(new.seats),
        trust: Text = Db(new.trust),
        give_up: Nullable<BigInt> = new.give_up.map(Db),
        fail_unmatched: Bool = new.fail_unmatched,
        retries: Nullable<SqlUuid> = new.retries.map(Db),
        what: Text = if new.retries.is_some() { "job.retry" } else { "job.submit" },
    )
    .get_result(connection)
    .await?)
}

/// The job with this id or this number.
pub async fn find(
    connection: &mut Connection,
    id: Option<JobId>,
    number: Option<i64>,
) -> Result<Option<Job>> {
    Ok(sql!(
        job_query!("where j.id = :id or j.number = :number");
        id: Nullable<SqlUuid> = id.map(Db),
        number: Nullable<BigInt> = number,
    )
    .get_result(connection)
    .await
    .optional()?)
}

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

/// The jobs of a run by their places in it, without those that others have replaced.
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
