//! Storing a new run with its jobs.

use crate::audit::Permit;
use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::{Band, SeatNeeds};
use pennine_core::id::{JobId, PlaceId, RunId, SourceId, StrandId};
use pennine_core::lifecycle::job::JobState;
use pennine_core::secret::SecretUses;
use pennine_core::sheet::{Need, NewerRun, OnFailure, RunOverrides};
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use serde::Serialize;
use std::collections::BTreeMap;

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
