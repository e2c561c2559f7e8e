//! Attempts: assigned in batches under the fence, reported on by their runners, lost.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::{self, Epoch};
use crate::statement::statement;
use crate::types::{Db, Json, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::dispatch::Assignment;
use pennine_core::id::{AttemptId, JobId, LeaseToken, RunnerId, SessionId, StrandId};
use pennine_core::lifecycle::attempt::{AttemptEvent, AttemptState};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::runner::Wish;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use std::collections::BTreeMap;

/// What became of a batch.
#[derive(Clone, Debug)]
pub enum Committed {
    /// These attempts exist now. What is missing from the batch had changed underneath.
    Kept(Vec<ForRunner>),
    /// Another replica leads by now; nothing was changed.
    Deposed,
}

/// Commits a batch of assignments: only under the epoch's fence, only jobs that still wait, only runners that still
/// take work. One statement, so one round trip and one durable commit for the whole batch.
pub async fn assign(
    connection: &mut Connection,
    epoch: Epoch,
    at: Moment,
    batch: &[(Assignment, LeaseToken)],
) -> Result<Committed> {
    let kept: Vec<ForRunner> = statement(
        "with fence as materialized (select epoch from leadership where epoch = $1 for share),
         wanted as (select * from unnest($2, $3, $4, $5) as w(attempt, job, runner, lease)),
         able as (
           select w.*, r.pool_id, r.facts_version, p.policy_version
           from wanted w join runner r on r.id = w.runner join pool p on p.id = r.pool_id, fence
           where r.state = 'available' and r.wish = 'work'),
         taken as (
           update job set current_attempt = able.attempt, attempts = attempts + 1
           from able where job.id = able.job and job.state = $6 and job.current_attempt is null
             and job.cancel_at is null
           returning job.*, able.attempt),
         made as (
           insert into attempt (id, job_id, number, runner_id, pool_id, strand_id, facts_version, policy_version, lease,
                                state, ready_at, assigned_at)
           select t.attempt, t.id, t.attempts, a.runner, a.pool_id, t.strand_id, a.facts_version, a.policy_version,
                  a.lease, $7, t.waits_since, $8
           from taken t join able a on a.attempt = t.attempt
           returning id, job_id, number, runner_id, pool_id, strand_id, lease, state, session),
         logs as (insert into attempt_log (attempt_id) select id from made),
         told as (
           insert into outbox (at, kind, subject, body)
           select $9, 'attempt.assigned', id, jsonb_build_object('job', job_id, 'runner', runner_id, 'strand', strand_id) from made)
         select m.id, m.lease, m.number, m.state, m.session, t.number as job_number, t.title, p.path as project,
                pool.name as pool, pool.labels as pool_labels, t.requirement, t.command, t.variables, t.time_limit_us, t.cancel_by,
                t.seats <> '{}' as exclusive
         from made m join taken t on t.attempt = m.id join place p on p.id = t.project_id join pool on pool.id = m.pool_id",
    )
    .bind::<BigInt, _>(epoch.0)
    .bind::<Array<SqlUuid>, _>(batch.iter().map(|(a, _)| a.attempt.0).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(batch.iter().map(|(a, _)| a.job.0).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(batch.iter().map(|(a, _)| a.runner.0).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(batch.iter().map(|(_, lease)| lease.0).collect::<Vec<_>>())
    .bind::<Text, _>(Db(JobState::Pending))
    .bind::<Text, _>(Db(AttemptState::Assigned))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .load(connection)
    .await?;
    // Nothing kept: either everything had changed underneath, or the fence stood in the way.
    if kept.is_empty() && !leadership::is_epoch(connection, epoch).await? {
        return Ok(Committed::Deposed);
    }
    Ok(Committed::Kept(kept))
}

/// An attempt that a runner has or should have, with what the runner needs to know of its job.
#[derive(Clone, Debug, QueryableByName)]
pub struct ForRunner {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<AttemptId>,
    #[diesel(sql_type = SqlUuid)]
    pub lease: Db<LeaseToken>,
    #[diesel(sql_type = Integer)]
    pub number: i32,
    #[diesel(sql_type = Text)]
    pub state: Db<AttemptState>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub session: Option<Db<SessionId>>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Array<Text>)]
    pub pool_labels: Vec<String>,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Jsonb)]
    pub command: Json<Vec<String>>,
    #[diesel(sql_type = Jsonb)]
    pub variables: Json<BTreeMap<String, String>>,
    #[diesel(sql_type = BigInt)]
    pub time_limit_us: Db<Micros>,
    #[diesel(sql_type = Nullable<Text>)]
    pub cancel_by: Option<String>,
    /// Whether it holds seats.
    #[diesel(sql_type = Bool)]
    pub exclusive: bool,
}

/// The attempts of a runner that are not over.
pub async fn for_runner(connection: &mut Connection, runner: RunnerId) -> Result<Vec<ForRunner>> {
    Ok(statement(
        "select a.id, a.lease, a.number, a.state, a.session, j.number as job_number, j.title, p.path as project,
                pool.name as pool, pool.labels as pool_labels, j.requirement, j.command, j.variables, j.time_limit_us, j.cancel_by,
                j.seats <> '{}' as exclusive
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         join pool on pool.id = a.pool_id
         where a.runner_id = $1 and a.open order by a.id",
    )
    .bind::<SqlUuid, _>(Db(runner))
    .load(connection)
    .await?)
}

/// Notes that the runner's session has these attempts.
pub async fn acknowledge(
    connection: &mut Connection,
    attempts: &[AttemptId],
    session: SessionId,
    at: Moment,
) -> Result<()> {
    statement(
        "update attempt set state = $1, acknowledged_at = $2, session = $3 where id = any($4) and state = any($5)",
    )
    .bind::<Text, _>(Db(AttemptState::Acknowledged))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<SqlUuid, _>(Db(session))
    .bind::<Array<SqlUuid>, _>(attempts.iter().map(|id| id.0).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(words(&[AttemptState::Assigned]))
    .execute(connection)
    .await?;
    Ok(())
}

/// What became of a runner's report.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reported {
    /// It is recorded, by this report or an earlier copy of it.
    Kept,
    /// The attempt is over, or was never held under this lease.
    Over,
    /// The log is not whole yet: so much of it is durable.
    LogShort(i64),
}

#[derive(QueryableByName)]
struct CountRow {
    #[diesel(sql_type = BigInt)]
    changed: i64,
}

#[derive(QueryableByName)]
struct StateRow {
    #[diesel(sql_type = Text)]
    state: Db<AttemptState>,
    #[diesel(sql_type = Bool)]
    accepted: bool,
}

async fn standing(
    connection: &mut Connection,
    attempt: AttemptId,
    lease: LeaseToken,
) -> Result<Option<StateRow>> {
    Ok(
        statement("select state, accepted from attempt where id = $1 and lease = $2")
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<SqlUuid, _>(Db(lease))
            .get_result(connection)
            .await
            .optional()?,
    )
}

/// The command was started.
pub async fn start(
    connection: &mut Connection,
    attempt: AttemptId,
    lease: LeaseToken,
    session: SessionId,
    started: Moment,
    at: Moment,
) -> Result<Reported> {
    let from = AttemptState::before(AttemptEvent::Start, AttemptState::Executing);
    let from: Vec<_> = from
        .into_iter()
        .filter(|state| *state != AttemptState::Executing)
        .collect();
    let row: CountRow = statement(
        "with a as (
           update attempt set state = $1, session = $2, acknowledged_at = coalesce(acknowledged_at, $3),
                  started_at = greatest($4, assigned_at)
           where id = $5 and lease = $6 and state = any($7) returning id, job_id, runner_id, started_at),
         j as (
           update job set state = $8, started_at = a.started_at
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any($9)
           returning job.id, a.id as attempt, a.runner_id),
         o as (
           insert into outbox (at, kind, subject, body)
           select $10, 'job.started', id, jsonb_build_object('attempt', attempt, 'runner', runner_id) from j),
         -- What a single-use runner has begun is the last that it takes.
         u as (
           update runner r set wish = $11 from a where r.id = a.runner_id and r.single_use returning r.id),
         uo as (
           insert into outbox (at, kind, subject, body) select $12, 'runner.changed', id, '{\"wish\": \"drain\"}' from u)
         select count(*) as changed from a",
    )
    .bind::<Text, _>(Db(AttemptState::Executing))
    .bind::<SqlUuid, _>(Db(session))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(started))
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<SqlUuid, _>(Db(lease))
    .bind::<Array<Text>, _>(words(&from))
    .bind::<Text, _>(Db(JobState::Executing))
    .bind::<Array<Text>, _>(words(&JobState::before(JobEvent::Start, JobState::Executing)))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(Db(Wish::Drain))
    .bind::<Timestamptz, _>(Db(at))
    .get_result(connection)
    .await?;
    if row.changed > 0 {
        return Ok(Reported::Kept);
    }
    let state = standing(connection, attempt, lease)
        .await?
        .map(|row| row.state.0);
    Ok(match state {
        Some(state) if state.after(AttemptEvent::Start).is_ok() => Reported::Kept,
        _ => Reported::Over,
    })
}

/// The command has ended; the log is still on its way.
pub async fn exit(
    connection: &mut Connection,
    attempt: AttemptId,
    lease: LeaseToken,
    exited: Moment,
    at: Moment,
) -> Result<()> {
    statement(
        "with a as (
           update attempt set state = $1, exited_at = greatest($2, started_at)
           where id = $3 and lease = $4 and state = $5 returning id, job_id),
         j as (
           update job set state = $6 from a
           where job.id = a.job_id and job.current_attempt = a.id and job.state = any($7) returning job.id)
         insert into outbox (at, kind, subject, body) select $8, 'job.finalizing', id, '{}' from j",
    )
    .bind::<Text, _>(Db(AttemptState::Finalizing))
    .bind::<Timestamptz, _>(Db(exited))
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<SqlUuid, _>(Db(lease))
    .bind::<Text, _>(Db(AttemptState::Executing))
    .bind::<Text, _>(Db(JobState::Finalizing))
    .bind::<Array<Text>, _>(words(&JobState::before(JobEvent::Exit, JobState::Finalizing)))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}

/// How an attempt ended, as its runner tells it.
#[derive(Clone, Debug)]
pub struct End {
    pub result: Outcome,
    pub said: Option<String>,
    pub exit_code: Option<i32>,
    /// When the command was started, by the report of its end.
    pub started: Option<Moment>,
    /// How long it ran, by the runner's own clock.
    pub ran: Option<Micros>,
    pub processor: Option<Micros>,
    pub peak_memory: Option<ByteSize>,
    pub log_bytes: i64,
    pub log_capped: bool,
}

/// The runner reports the end. Accepted once, and only when its whole log is durable; a repeat is recognised.
pub async fn finish(
    connection: &mut Connection,
    attempt: AttemptId,
    lease: LeaseToken,
    end: &End,
    at: Moment,
) -> Result<Reported> {
    let row: CountRow = statement(
        "with log as (
           update attempt_log set complete = true, capped = $1 where attempt_id = $2 and length = $3 returning attempt_id),
         a as (
           update attempt set state = $4, result = $5, said = $6, exit_code = $7,
                  started_at = coalesce(started_at, $8), exited_at = least($9, coalesce(started_at, $10) + $11 * interval '1 microsecond'),
                  finished_at = $12, processor_us = $13, peak_memory = $14, log_bytes = $15, log_capped = $16,
                  accepted = exists (select from job where job.id = attempt.job_id and job.current_attempt = attempt.id)
           from log where id = log.attempt_id and lease = $17 and state = any($18)
           returning id, job_id, runner_id, started_at, exit_code, result, said, finished_at),
         j as (
           update job set state = $19, result = a.result, said = a.said, exit_code = a.exit_code,
                  started_at = coalesce(job.started_at, a.started_at), finished_at = a.finished_at
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any($20)
           returning job.id, job.result),
         o1 as (
           insert into outbox (at, kind, subject, body)
           select finished_at, 'attempt.over', id, jsonb_build_object('job', job_id, 'runner', runner_id) from a),
         o2 as (
           insert into outbox (at, kind, subject, body)
           select $21, 'job.done', id, jsonb_build_object('result', result) from j)
         select count(*) as changed from a",
    )
    .bind::<Bool, _>(end.log_capped)
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<BigInt, _>(end.log_bytes)
    .bind::<Text, _>(Db(AttemptState::Done))
    .bind::<Text, _>(Db(end.result))
    .bind::<Nullable<Text>, _>(&end.said)
    .bind::<Nullable<Integer>, _>(end.exit_code)
    .bind::<Nullable<Timestamptz>, _>(end.started.map(Db))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Nullable<Timestamptz>, _>(end.started.map(Db))
    .bind::<Nullable<BigInt>, _>(end.ran.map(Db))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Nullable<BigInt>, _>(end.processor.map(Db))
    .bind::<Nullable<BigInt>, _>(end.peak_memory.and_then(|size| i64::try_from(size.0).ok()))
    .bind::<BigInt, _>(end.log_bytes)
    .bind::<Bool, _>(end.log_capped)
    .bind::<SqlUuid, _>(Db(lease))
    .bind::<Array<Text>, _>(words(&AttemptState::before(AttemptEvent::Finish, AttemptState::Done)))
    .bind::<Text, _>(Db(JobState::Done))
    .bind::<Array<Text>, _>(words(&JobState::before(JobEvent::Finish, JobState::Done)))
    .bind::<Timestamptz, _>(Db(at))
    .get_result(connection)
    .await?;
    if row.changed > 0 {
        return Ok(Reported::Kept);
    }
    match standing(connection, attempt, lease).await? {
        Some(row) if row.state.0 == AttemptState::Done && row.accepted => Ok(Reported::Kept),
        Some(row) if row.state.0 != AttemptState::Done => {
            let length = crate::log::state(connection, attempt)
                .await?
                .map_or(0, |log| log.length);
            Ok(Reported::LogShort(length))
        }
        _ => Ok(Reported::Over),
    }
}

/// Why an attempt came to nothing.
#[derive(Clone, Debug)]
pub struct Loss {
    /// In words.
    pub said: String,
    /// Whether it counts against the job's tries.
    pub counts: bool,
}

/// Ends an attempt that came to nothing. Its job waits again, unless it was to be cancelled or has no try left. What the
/// leader concludes is done only under its fence; what the runner itself reports needs none. False when the attempt was
/// over already, or another leads.
pub async fn lose(
    connection: &mut Connection,
    epoch: Option<Epoch>,
    attempt: AttemptId,
    loss: &Loss,
    at: Moment,
) -> Result<bool> {
    let row: CountRow = statement(
        "with fence as materialized (select epoch from leadership where epoch = coalesce($1, epoch) for share),
         a as (
           update attempt set state = $2, result = $3, said = $4, finished_at = $5
           from fence where id = $6 and state = any($7)
           returning id, job_id, runner_id, started_at, strand_id),
         log as (update attempt_log set complete = true from a where attempt_id = a.id),
         j as (
           update job set
             losses = losses + $8,
             current_attempt = case when cancel_at is null and losses + $9 < tries then null else current_attempt end,
             avoid_runner = a.runner_id,
             state = case when cancel_at is null and losses + $10 < tries then $11 else $12 end,
             result = case when cancel_at is not null then $13 when losses + $14 < tries then null else $15 end,
             said = case when cancel_at is not null then 'cancelled by ' || cancel_by
                         when losses + $16 < tries then null else $17 end,
             waits_since = case when cancel_at is null and losses + $18 < tries then $19 else waits_since end,
             give_up_at = case when cancel_at is null and losses + $20 < tries
                               then $21 + give_up_us * interval '1 microsecond' else give_up_at end,
             started_at = case when cancel_at is null and losses + $22 < tries then null else job.started_at end,
             finished_at = case when cancel_at is null and losses + $23 < tries then null else $24 end
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any($25)
           returning job.id, job.state, job.result, job.strand_id, job.number, job.avoid_runner, job.project_id),
         o1 as (
           insert into outbox (at, kind, subject, body)
           select $26, 'attempt.over', id, jsonb_build_object('job', job_id, 'runner', runner_id, 'lost', true) from a),
         o2 as (
           insert into outbox (at, kind, subject, body)
           select $27, case when state = 'done' then 'job.done' else 'job.pending' end, id,
                  case when state = 'done' then jsonb_build_object('result', result)
                       else jsonb_build_object('strand', strand_id, 'number', number, 'project', project_id,
                                               'again', true) end
           from j)
         select count(*) as changed from a",
    )
    .bind::<Nullable<BigInt>, _>(epoch.map(|epoch| epoch.0))
    .bind::<Text, _>(Db(AttemptState::Done))
    .bind::<Text, _>(Db(Outcome::Error))
    .bind::<Text, _>(&loss.said)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<Array<Text>, _>(words(&AttemptState::before(AttemptEvent::Lose, AttemptState::Done)))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Text, _>(Db(JobState::Pending))
    .bind::<Text, _>(Db(JobState::Done))
    .bind::<Text, _>(Db(Outcome::Cancellation))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Text, _>(Db(Outcome::Error))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Text, _>(format!("every try came to nothing; the last: {}", loss.said))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Integer, _>(i32::from(loss.counts))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Array<Text>, _>(words(&JobState::before(JobEvent::Retry, JobState::Pending)))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .get_result(connection)
    .await?;
    Ok(row.changed > 0)
}

/// An attempt that is not over, as the leader watches it.
#[derive(Clone, Debug, QueryableByName)]
pub struct Open {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<AttemptId>,
    #[diesel(sql_type = SqlUuid)]
    pub job_id: Db<JobId>,
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Text)]
    pub runner: String,
    #[diesel(sql_type = Bool)]
    pub runner_retired: bool,
    #[diesel(sql_type = Text)]
    pub state: Db<AttemptState>,
    #[diesel(sql_type = Timestamptz)]
    pub assigned_at: Db<Moment>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub session: Option<Db<SessionId>>,
    /// Whether a person took its seats back.
    #[diesel(sql_type = Bool)]
    pub seats_back: bool,
}

/// Every attempt that is not over.
pub async fn open(connection: &mut Connection) -> Result<Vec<Open>> {
    Ok(statement(
        "select a.id, a.job_id, a.runner_id, a.strand_id, r.name as runner, r.state = 'retired' as runner_retired,
                a.state, a.assigned_at, a.session, a.seats_back_at is not null as seats_back
         from attempt a join runner r on r.id = a.runner_id where a.open",
    )
    .load(connection)
    .await?)
}

/// An attempt as people read it.
#[derive(Clone, Debug, QueryableByName)]
pub struct Attempt {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<AttemptId>,
    #[diesel(sql_type = SqlUuid)]
    pub job_id: Db<JobId>,
    #[diesel(sql_type = Integer)]
    pub number: i32,
    #[diesel(sql_type = Text)]
    pub state: Db<AttemptState>,
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = Text)]
    pub runner: String,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = Bool)]
    pub accepted: bool,
    #[diesel(sql_type = Nullable<Text>)]
    pub said: Option<String>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub exit_code: Option<i32>,
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub assigned_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub exited_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub finished_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub processor_us: Option<Db<Micros>>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub peak_memory: Option<i64>,
    #[diesel(sql_type = BigInt)]
    pub log_bytes: i64,
    #[diesel(sql_type = Bool)]
    pub log_capped: bool,
}

/// The attempts of these jobs, by job and number.
pub async fn of_jobs(connection: &mut Connection, jobs: &[JobId]) -> Result<Vec<Attempt>> {
    Ok(statement(
        "select a.id, a.job_id, a.number, a.state, a.runner_id, r.name as runner, p.name as pool, a.strand_id,
                a.result, a.accepted, a.said, a.exit_code, a.ready_at, a.assigned_at, a.started_at, a.exited_at,
                a.finished_at, a.processor_us, a.peak_memory, coalesce(l.length, a.log_bytes, 0) as log_bytes,
                a.log_capped
         from attempt a join runner r on r.id = a.runner_id join pool p on p.id = a.pool_id
         left join attempt_log l on l.attempt_id = a.id
         where a.job_id = any($1) order by a.job_id, a.number",
    )
    .bind::<Array<SqlUuid>, _>(jobs.iter().map(|job| job.0).collect::<Vec<_>>())
    .load(connection)
    .await?)
}

/// Whose log this is: the attempt's runner and lease, while it is not over.
pub async fn holds_lease(
    connection: &mut Connection,
    attempt: AttemptId,
    runner: RunnerId,
    lease: LeaseToken,
) -> Result<bool> {
    let row: CountRow = statement(
        "select count(*) as changed from attempt where id = $1 and runner_id = $2 and lease = $3 and open",
    )
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<SqlUuid, _>(Db(runner))
    .bind::<SqlUuid, _>(Db(lease))
    .get_result(connection)
    .await?;
    Ok(row.changed > 0)
}

/// A session begins: from now on it is the runner's, and these attempts, which it still has, are this session's. False,
/// and nothing begins, when another session of the runner was heard of after `since` and has not closed; none is looked
/// for without `since`. One statement, so that the leader never sees the one without the other.
pub async fn begin_session(
    connection: &mut Connection,
    runner: RunnerId,
    session: SessionId,
    held: &[AttemptId],
    since: Option<Moment>,
    at: Moment,
) -> Result<bool> {
    let begun = statement(
        "with other as (
           select 1 from runner_seen
           where runner_id = $1 and session <> $2 and seen_at > $3 and closed_at is null),
         kept as (
           update attempt set session = $4
           where id = any($5) and runner_id = $6 and open and not exists (select from other))
         insert into runner_seen (runner_id, session, seen_at)
         select $7, $8, $9 where not exists (select from other)
         on conflict (runner_id) do update
         set session = excluded.session, seen_at = excluded.seen_at, closed_at = null",
    )
    .bind::<SqlUuid, _>(Db(runner))
    .bind::<SqlUuid, _>(Db(session))
    .bind::<Nullable<Timestamptz>, _>(since.map(Db))
    .bind::<SqlUuid, _>(Db(session))
    .bind::<Array<SqlUuid>, _>(held.iter().map(|id| id.0).collect::<Vec<_>>())
    .bind::<SqlUuid, _>(Db(runner))
    .bind::<SqlUuid, _>(Db(runner))
    .bind::<SqlUuid, _>(Db(session))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(begun > 0)
}
