//! Attempts: assigned in batches under the fence, reported on by their runners, lost.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::{self, Epoch};
use crate::statement::sql;
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
    let kept: Vec<ForRunner> = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
         wanted as (select * from unnest(:attempts, :jobs, :runners, :leases) as w(attempt, job, runner, lease)),
         able as (
           select w.*, r.pool_id, r.facts_version, p.policy_version
           from wanted w join runner r on r.id = w.runner join pool p on p.id = r.pool_id, fence
           where r.state = 'available' and r.wish = 'work'),
         taken as (
           update job set current_attempt = able.attempt, attempts = attempts + 1
           from able where job.id = able.job and job.state = :pending and job.current_attempt is null
             and job.cancel_at is null
           returning job.*, able.attempt),
         made as (
           insert into attempt (id, job_id, number, runner_id, pool_id, strand_id, facts_version, policy_version, lease,
                                state, ready_at, assigned_at)
           select t.attempt, t.id, t.attempts, a.runner, a.pool_id, t.strand_id, a.facts_version, a.policy_version,
                  a.lease, :assigned, t.waits_since, :at
           from taken t join able a on a.attempt = t.attempt
           returning id, job_id, number, runner_id, pool_id, strand_id, lease, state, session),
         logs as (insert into attempt_log (attempt_id) select id from made),
         told as ("
           change AttemptAssigned { attempt: "id", job: "job_id", runner: "runner_id", strand: "strand_id" } at ":at" from "made"
           ")
         select m.id, m.lease, m.number, m.state, m.session, t.number as job_number, t.title, p.path as project,
                pool.name as pool, pool.labels as pool_labels, t.requirement, t.command, t.variables, t.time_limit_us, t.cancel_by,
                t.seats <> '{}' as exclusive
         from made m join taken t on t.attempt = m.id join place p on p.id = t.project_id join pool on pool.id = m.pool_id";
        epoch: BigInt = epoch.0,
        attempts: Array<SqlUuid> = batch.iter().map(|(a, _)| a.attempt.0).collect::<Vec<_>>(),
        jobs: Array<SqlUuid> = batch.iter().map(|(a, _)| a.job.0).collect::<Vec<_>>(),
        runners: Array<SqlUuid> = batch.iter().map(|(a, _)| a.runner.0).collect::<Vec<_>>(),
        leases: Array<SqlUuid> = batch.iter().map(|(_, lease)| lease.0).collect::<Vec<_>>(),
        pending: Text = Db(JobState::Pending),
        assigned: Text = Db(AttemptState::Assigned),
        at: Timestamptz = Db(at),
    )
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
    Ok(sql!(
        "select a.id, a.lease, a.number, a.state, a.session, j.number as job_number, j.title, p.path as project,
                pool.name as pool, pool.labels as pool_labels, j.requirement, j.command, j.variables, j.time_limit_us, j.cancel_by,
                j.seats <> '{}' as exclusive
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         join pool on pool.id = a.pool_id
         where a.runner_id = :runner and a.open order by a.id";
        runner: SqlUuid = Db(runner),
    )
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
    sql!(
        "update attempt set state = :acknowledged, acknowledged_at = :at, session = :session where id = any(:attempts) and state = any(:states)";
        acknowledged: Text = Db(AttemptState::Acknowledged),
        at: Timestamptz = Db(at),
        session: SqlUuid = Db(session),
        attempts: Array<SqlUuid> = attempts.iter().map(|id| id.0).collect::<Vec<_>>(),
        states: Array<Text> = words(&[AttemptState::Assigned]),
    )
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
    Ok(sql!(
        "select state, accepted from attempt where id = :attempt and lease = :lease";
        attempt: SqlUuid = Db(attempt),
        lease: SqlUuid = Db(lease),
    )
    .get_result(connection)
    .await
    .optional()?)
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
    let row: CountRow = sql!(
        "with a as (
           update attempt set state = :attempt_executing, session = :session, acknowledged_at = coalesce(acknowledged_at, :at),
                  started_at = greatest(:started, assigned_at)
           where id = :attempt and lease = :lease and state = any(:attempt_before_start) returning id, job_id, runner_id, started_at),
         j as (
           update job set state = :job_executing, started_at = a.started_at
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_start)
           returning job.id, a.id as attempt, a.runner_id),
         o as ("
           change JobStarted { job: "id", attempt: "attempt", runner: "runner_id" } at ":at" from "j"
           "),
         -- What a single-use runner has begun is the last that it takes.
         u as (
           update runner r set wish = :drain from a where r.id = a.runner_id and r.single_use returning r.id),
         uo as ("
           change RunnerWishChanged { runner: "id", wish: "'drain'" } at ":at" from "u"
           ")
         select count(*) as changed from a";
        attempt_executing: Text = Db(AttemptState::Executing),
        session: SqlUuid = Db(session),
        at: Timestamptz = Db(at),
        started: Timestamptz = Db(started),
        attempt: SqlUuid = Db(attempt),
        lease: SqlUuid = Db(lease),
        attempt_before_start: Array<Text> = words(&from),
        job_executing: Text = Db(JobState::Executing),
        job_before_start: Array<Text> = words(&JobState::before(JobEvent::Start, JobState::Executing)),
        drain: Text = Db(Wish::Drain),
    )
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
    sql!(
        "with a as (
           update attempt set state = :attempt_finalizing, exited_at = greatest(:exited, started_at)
           where id = :attempt and lease = :lease and state = :attempt_executing returning id, job_id),
         j as (
           update job set state = :job_finalizing from a
           where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_exit) returning job.id)"
         change JobFinalizing { job: "id" } at ":at" from "j";
        attempt_finalizing: Text = Db(AttemptState::Finalizing),
        exited: Timestamptz = Db(exited),
        attempt: SqlUuid = Db(attempt),
        lease: SqlUuid = Db(lease),
        attempt_executing: Text = Db(AttemptState::Executing),
        job_finalizing: Text = Db(JobState::Finalizing),
        job_before_exit: Array<Text> = words(&JobState::before(JobEvent::Exit, JobState::Finalizing)),
        at: Timestamptz = Db(at),
    )
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
    let row: CountRow = sql!(
        "with log as (
           update attempt_log set complete = true, capped = :log_capped where attempt_id = :attempt and length = :log_bytes returning attempt_id),
         a as (
           update attempt set state = :attempt_done, result = :result, said = :said, exit_code = :exit_code,
                  started_at = coalesce(started_at, :started), exited_at = least(:at, coalesce(started_at, :started) + :ran * interval '1 microsecond'),
                  finished_at = :at, processor_us = :processor, peak_memory = :peak_memory, log_bytes = :log_bytes, log_capped = :log_capped,
                  accepted = exists (select from job where job.id = attempt.job_id and job.current_attempt = attempt.id)
           from log where id = log.attempt_id and lease = :lease and state = any(:attempt_before_finish)
           returning id, job_id, runner_id, started_at, exit_code, result, said, finished_at),
         j as (
           update job set state = :job_done, result = a.result, said = a.said, exit_code = a.exit_code,
                  started_at = coalesce(job.started_at, a.started_at), finished_at = a.finished_at
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_finish)
           returning job.id, job.result),
         o1 as ("
           change AttemptEnded { attempt: "id", job: "job_id", runner: "runner_id", lost: "false" } at "finished_at" from "a"
           "),
         o2 as ("
           change JobDone { job: "id", result: "result" } at ":at" from "j"
           ")
         select count(*) as changed from a";
        log_capped: Bool = end.log_capped,
        attempt: SqlUuid = Db(attempt),
        log_bytes: BigInt = end.log_bytes,
        attempt_done: Text = Db(AttemptState::Done),
        result: Text = Db(end.result),
        said: Nullable<Text> = &end.said,
        exit_code: Nullable<Integer> = end.exit_code,
        started: Nullable<Timestamptz> = end.started.map(Db),
        at: Timestamptz = Db(at),
        ran: Nullable<BigInt> = end.ran.map(Db),
        processor: Nullable<BigInt> = end.processor.map(Db),
        peak_memory: Nullable<BigInt> = end.peak_memory.and_then(|size| i64::try_from(size.0).ok()),
        lease: SqlUuid = Db(lease),
        attempt_before_finish: Array<Text> = words(&AttemptState::before(AttemptEvent::Finish, AttemptState::Done)),
        job_done: Text = Db(JobState::Done),
        job_before_finish: Array<Text> = words(&JobState::before(JobEvent::Finish, JobState::Done)),
    )
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
    let row: CountRow = sql!(
        "with fence as materialized (select epoch from leadership where epoch = coalesce(:epoch, epoch) for share),
         a as (
           update attempt set state = :attempt_done, result = :error, said = :said, finished_at = :at
           from fence where id = :attempt and state = any(:attempt_before_lose)
           returning id, job_id, runner_id, started_at, strand_id),
         log as (update attempt_log set complete = true from a where attempt_id = a.id),
         j as (
           update job set
             losses = losses + :counts,
             current_attempt = case when cancel_at is null and losses + :counts < tries then null else current_attempt end,
             avoid_runner = a.runner_id,
             state = case when cancel_at is null and losses + :counts < tries then :pending else :job_done end,
             result = case when cancel_at is not null then :cancellation when losses + :counts < tries then null else :error end,
             said = case when cancel_at is not null then 'cancelled by ' || cancel_by
                         when losses + :counts < tries then null else :format end,
             waits_since = case when cancel_at is null and losses + :counts < tries then :at else waits_since end,
             give_up_at = case when cancel_at is null and losses + :counts < tries
                               then :at + give_up_us * interval '1 microsecond' else give_up_at end,
             started_at = case when cancel_at is null and losses + :counts < tries then null else job.started_at end,
             finished_at = case when cancel_at is null and losses + :counts < tries then null else :at end
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_retry)
           returning job.id, job.state, job.result, job.strand_id, job.number, job.avoid_runner, job.project_id, job.fail_unmatched),
         o1 as ("
           change AttemptEnded { attempt: "id", job: "job_id", runner: "runner_id", lost: "true" } at ":at" from "a"
           "),
         o2 as ("
           change JobDone { job: "id", result: "result" } at ":at" from "j where state = :job_done"
         "),
         o3 as ("
           change JobPending {
               job: "id", strand: "strand_id", project: "project_id", number: "number",
               again: "true", fail_unmatched: "fail_unmatched",
           } at ":at" from "j where state = :pending"
         ")
         select count(*) as changed from a";
        epoch: Nullable<BigInt> = epoch.map(|epoch| epoch.0),
        attempt_done: Text = Db(AttemptState::Done),
        error: Text = Db(Outcome::Error),
        said: Text = &loss.said,
        at: Timestamptz = Db(at),
        attempt: SqlUuid = Db(attempt),
        attempt_before_lose: Array<Text> = words(&AttemptState::before(AttemptEvent::Lose, AttemptState::Done)),
        counts: Integer = i32::from(loss.counts),
        pending: Text = Db(JobState::Pending),
        job_done: Text = Db(JobState::Done),
        cancellation: Text = Db(Outcome::Cancellation),
        format: Text = format!("every try came to nothing; the last: {}", loss.said),
        job_before_retry: Array<Text> = words(&JobState::before(JobEvent::Retry, JobState::Pending)),
    )
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
    Ok(sql!(
        "select a.id, a.job_id, a.runner_id, a.strand_id, r.name as runner, r.state = 'retired' as runner_retired,
                a.state, a.assigned_at, a.session, a.seats_back_at is not null as seats_back
         from attempt a join runner r on r.id = a.runner_id where a.open"
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
    Ok(sql!(
        "select a.id, a.job_id, a.number, a.state, a.runner_id, r.name as runner, p.name as pool, a.strand_id,
                a.result, a.accepted, a.said, a.exit_code, a.ready_at, a.assigned_at, a.started_at, a.exited_at,
                a.finished_at, a.processor_us, a.peak_memory, coalesce(l.length, a.log_bytes, 0) as log_bytes,
                a.log_capped
         from attempt a join runner r on r.id = a.runner_id join pool p on p.id = a.pool_id
         left join attempt_log l on l.attempt_id = a.id
         where a.job_id = any(:jobs) order by a.job_id, a.number";
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
    )
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
    let row: CountRow = sql!(
        "select count(*) as changed from attempt where id = :attempt and runner_id = :runner and lease = :lease and open";
        attempt: SqlUuid = Db(attempt),
        runner: SqlUuid = Db(runner),
        lease: SqlUuid = Db(lease),
    )
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
    let begun = sql!(
        "with other as (
           select 1 from runner_seen
           where runner_id = :runner and session <> :session and seen_at > :since and closed_at is null),
         kept as (
           update attempt set session = :session
           where id = any(:held) and runner_id = :runner and open and not exists (select from other))
         insert into runner_seen (runner_id, session, seen_at)
         select :runner, :session, :at where not exists (select from other)
         on conflict (runner_id) do update
         set session = excluded.session, seen_at = excluded.seen_at, closed_at = null";
        runner: SqlUuid = Db(runner),
        session: SqlUuid = Db(session),
        since: Nullable<Timestamptz> = since.map(Db),
        held: Array<SqlUuid> = held.iter().map(|id| id.0).collect::<Vec<_>>(),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(begun > 0)
}
