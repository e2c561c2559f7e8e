//! Jobs that are over before they are recorded: history from elsewhere, written in bulk. It has no events, as events
//! that retention has dropped; everything else is as the service itself would have recorded it.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::{Band, Price, SeatNeeds, Segment};
use pennine_core::fact::Facts;
use pennine_core::id::{AttemptId, JobId, LeaseToken, PlaceId, PoolId, RunId, RunnerId, StrandId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::queue_sample::QueueSample;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use serde::{Serialize, Serializer};
use std::collections::BTreeSet;
use uuid::Uuid;

/// A job that had one attempt, which was accepted.
#[derive(Clone, Debug, Serialize)]
pub struct PastJob {
    pub id: JobId,
    pub run: RunId,
    pub attempt: AttemptId,
    pub lease: LeaseToken,
    pub project: PlaceId,
    pub strand: StrandId,
    pub runner: RunnerId,
    pub pool: PoolId,
    pub policy_version: i32,
    pub by: String,
    /// Whether it ran elsewhere: then the reasons for its wait are unknown.
    pub imported: bool,
    pub title: String,
    pub requirement: String,
    pub command: Vec<String>,
    pub band: Band,
    pub seats: SeatNeeds,
    pub time_limit_us: Micros,
    pub result: Outcome,
    pub message: Option<String>,
    pub exit_code: Option<i32>,
    pub ready_at: Moment,
    pub assigned_at: Moment,
    pub started_at: Moment,
    pub exited_at: Moment,
    pub finished_at: Moment,
    pub processor_us: Micros,
    #[serde(serialize_with = "in_bytes")]
    pub peak_memory: ByteSize,
}

fn in_bytes<S: Serializer>(size: &ByteSize, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.serialize_i64(i64::try_from(size.0).unwrap_or(i64::MAX))
}

/// Records jobs, in the order of their numbers.
pub async fn add_jobs(connection: &mut Connection, jobs: &[PastJob]) -> Result<()> {
    sql!(
        "with past as materialized (
           select * from jsonb_to_recordset(:jobs) as p(
             id uuid, run uuid, attempt uuid, lease uuid, project uuid, strand uuid, runner uuid, pool uuid,
             policy_version integer, by text, imported boolean, title text, requirement text, command jsonb, band text, seats jsonb,
             time_limit_us bigint, result text, message text, exit_code integer, ready_at timestamptz,
             assigned_at timestamptz, started_at timestamptz, exited_at timestamptz, finished_at timestamptz,
             processor_us bigint, peak_memory bigint)
           order by ready_at),
         r as (
           insert into run (id, project_id, created_at, created_by, only_job) select run, project, ready_at, by, id from past),
         j as (
           insert into job (id, run_id, project_id, strand_id, state, result, message, exit_code, title, requirement,
                            command, variables, time_limit_us, tries, created_at, ready_at, waits_since, started_at,
                            finished_at, attempts, current_attempt, band, seats)
           select id, run, project, strand, 'done', result, message, exit_code, title, requirement, command, '{}',
                  time_limit_us, 1, ready_at, ready_at, ready_at, started_at, finished_at, 1, attempt, band, seats
           from past),
         l as (insert into attempt_log (attempt_id, complete) select attempt, true from past)
         insert into attempt (id, job_id, number, runner_id, pool_id, strand_id, facts_version, policy_version, lease,
                              state, result, accepted, message, exit_code, ready_at, assigned_at, acknowledged_at,
                              started_at, exited_at, finished_at, processor_us, peak_memory, log_bytes, imported)
         select attempt, id, 1, runner, pool, strand, 0, policy_version, lease, 'done', result, true, message, exit_code,
                ready_at, assigned_at, assigned_at, started_at, exited_at, finished_at, processor_us, peak_memory, 0, imported
         from past";
        jobs: Jsonb = Json(jobs.to_vec()),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// What was message of a strand from some moment on.
#[derive(Clone, Debug, Serialize)]
pub struct PastReason {
    pub strand: StrandId,
    pub since: Moment,
    pub segments: Vec<Segment>,
}

/// Records what was message of strands.
pub async fn add_reasons(connection: &mut Connection, reasons: &[PastReason]) -> Result<()> {
    sql!(
        "insert into strand_reason (strand_id, since, segments)
         select strand, since, segments
         from jsonb_to_recordset(:reasons) as p(strand uuid, since timestamptz, segments jsonb)
         on conflict (strand_id, since) do update set segments = excluded.segments";
        reasons: Jsonb = Json(reasons.to_vec()),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// How the yard stood from some moment on.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct PastLevel {
    pub at: Moment,
    #[serde(flatten)]
    pub level: QueueSample,
}

/// Records how the yard stood.
pub async fn add_levels(connection: &mut Connection, levels: &[PastLevel]) -> Result<()> {
    sql!(
        "insert into queue_sample (at, waiting, executing, idle, coming)
         select at, waiting, executing, idle, coming
         from jsonb_to_recordset(:levels) as p(at timestamptz, waiting integer, executing integer, idle integer,
                                          coming integer)
         on conflict do nothing";
        levels: Jsonb = Json(levels.to_vec()),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A runner that is not there any more.
#[derive(Clone, Debug)]
pub struct PastRunner {
    pub id: RunnerId,
    pub pool: PoolId,
    pub name: String,
    pub slots: u32,
    pub labels: Vec<String>,
    pub facts: Facts,
    pub from: Moment,
    pub until: Moment,
    /// Why it is gone.
    pub reason: String,
}

/// Records a runner that is gone, with the facts that held. Of a runner on record, only adds these facts, as those before the
/// first that it reported, and extends the time of one that is retired.
pub async fn add_runner(connection: &mut Connection, past: &PastRunner) -> Result<()> {
    let known = sql!(
        "with known as (
           update runner set created_at = case state when 'retired' then least(created_at, :from) else created_at end,
                             state_since = case state when 'retired' then greatest(state_since, :until) else state_since end
           where id = :id returning id)
         insert into runner_facts (runner_id, version, facts, labels, slots, program, since)
         select id, 0, :facts, :labels, :slots, '', :from from known
         on conflict (runner_id, version) do update set since = least(runner_facts.since, excluded.since)";
        facts: Jsonb = Json(past.facts.clone()),
        labels: Array<Text> = &past.labels,
        slots: Integer = i32::try_from(past.slots).unwrap_or(i32::MAX),
        from: Timestamptz = Db(past.from),
        until: Timestamptz = Db(past.until),
        id: SqlUuid = Db(past.id),
    )
    .execute(connection)
    .await?;
    if known > 0 {
        return Ok(());
    }
    sql!(
        "with r as (
           insert into runner (id, pool_id, name, state, state_since, state_reason, desired_state, slots, labels, facts,
                               facts_version, program, created_at)
           values (:id, :pool, :name, 'retired', :until, :reason, 'work', :slots, :labels, :facts, 0, '', :from) returning *)
         insert into runner_facts (runner_id, version, facts, labels, slots, program, since)
         select id, 0, facts, labels, slots, program, created_at from r";
        id: SqlUuid = Db(past.id),
        pool: SqlUuid = Db(past.pool),
        name: Text = &past.name,
        until: Timestamptz = Db(past.until),
        reason: Text = &past.reason,
        slots: Integer = i32::try_from(past.slots).unwrap_or(i32::MAX),
        labels: Array<Text> = &past.labels,
        facts: Jsonb = Json(past.facts.clone()),
        from: Timestamptz = Db(past.from),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A machine that is gone.
#[derive(Clone, Debug)]
pub struct PastMachine {
    pub id: Uuid,
    pub name: String,
    pub pool: PoolId,
    /// The supplier's name.
    pub supplier: String,
    pub runner: RunnerId,
    pub policy_version: i32,
    pub price: Price,
    pub ordered: Moment,
    pub joined: Moment,
    pub released: Moment,
    pub ended: Moment,
}

/// Records a machine that is gone.
pub async fn add_machine(connection: &mut Connection, past: &PastMachine) -> Result<()> {
    sql!(
        "insert into machine (id, number, name, pool_id, supplier_id, runner_id, policy_version, state, state_since,
                              state_reason, price, single_use, ordered_at, ordered_by, accepted_at, joined_at, released_at,
                              ended_at)
         select :id, nextval('machine_number'), :name, :pool, s.id, :runner, :policy_version, 'gone', :ended, 'it was not wanted any more', :price, false,
                :ordered, 'the keeper', :ordered, :joined, :released, :ended
         from supplier s where s.name = :supplier";
        id: SqlUuid = past.id,
        name: Text = &past.name,
        pool: SqlUuid = Db(past.pool),
        runner: SqlUuid = Db(past.runner),
        policy_version: Integer = past.policy_version,
        ended: Timestamptz = Db(past.ended),
        price: BigInt = i64::try_from(past.price.0).unwrap_or(i64::MAX),
        ordered: Timestamptz = Db(past.ordered),
        joined: Timestamptz = Db(past.joined),
        released: Timestamptz = Db(past.released),
        supplier: Text = &past.supplier,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Which of some jobs are on record.
pub async fn jobs_on_record(
    connection: &mut Connection,
    jobs: &[JobId],
) -> Result<BTreeSet<JobId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<JobId>,
    }
    let ids: Vec<Uuid> = jobs.iter().map(|job| job.0).collect();
    let rows: Vec<Row> = sql!(
        "select id from job where id = any(:ids)";
        ids: Array<SqlUuid> = &ids,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// How many jobs are on record.
pub async fn jobs(connection: &mut Connection) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        jobs: i64,
    }
    let row: Row = sql!("select count(*) as jobs from job")
        .get_result(connection)
        .await?;
    Ok(row.jobs)
}
