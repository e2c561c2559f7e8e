//! Jobs.

use crate::audit::Permit;
use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{
    BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::dispatch::{Band, SeatNeeds};
use pennine_core::id::{AttemptId, JobId, PlaceId, RunId, StrandId};
use pennine_core::lifecycle::job::{JobState, Outcome};
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
    /// Its commands, where it is of a job sheet that lists them.
    #[diesel(sql_type = Jsonb)]
    pub commands: Json<Vec<String>>,
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
                    j.exit_code, j.title, j.requirement, j.command, j.commands, j.variables, j.secrets, j.time_limit_us, j.tries,
                    j.created_at, j.ready_at, j.waits_since, j.started_at, j.finished_at, j.current_attempt, j.cancel_at,
                    j.band, j.seats, j.trust, j.give_up_at, j.give_up_us, j.fail_unmatched, j.retried_as,
                    j.position is not null as is_of_sheet, j.released_by
             from job j join run r on r.id = j.run_id join place p on p.id = j.project_id ",
            $rest
        )
    };
}

mod list;
mod usage;
mod waiting;

pub use list::{
    Filter, active, latest, list, newest_number, of_run, similar, visible, with_ids, with_runner,
};
pub use usage::{UsageRow, recent_usage};
pub use waiting::{
    Cancelled, CancelledJob, WaitEnd, WaitingJob, all_waiting, cancel, cancel_all, due_to_give_up,
    end_waiting, fail_unmatched_now, move_to, waiting_among,
};

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
