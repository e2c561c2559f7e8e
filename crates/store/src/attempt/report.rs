//! What runners report of their attempts: taken, started, ended; and whose session has them.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{AttemptId, LeaseToken, RunnerId, SessionId};
use pennine_core::lifecycle::attempt::{AttemptEvent, AttemptState};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::phase::Phases;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};

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

/// What a report is about: an attempt, held by a runner under a lease. What another runner or another lease says of it
/// changes nothing.
#[derive(Clone, Copy, Debug)]
pub struct HeldLease {
    pub attempt: AttemptId,
    pub runner: RunnerId,
    pub lease: LeaseToken,
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
    /// Nothing is recorded yet: the job belongs to a run of a sheet, whose lock is needed.
    OfSheet,
}

/// What the end of an attempt is for its job.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JobEnd {
    /// Its end, where it does not belong to a run of a sheet.
    Alone,
    /// Its end, in a run of a sheet whose lock is held.
    InRun,
    /// Its command has failed, and is tried again; the run's lock is held.
    TriedAgain,
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
    #[diesel(sql_type = Bool)]
    is_of_sheet: bool,
}

async fn standing(connection: &mut Connection, held: HeldLease) -> Result<Option<StateRow>> {
    Ok(sql!(
        "select state, accepted,
                exists (select from job where job.id = attempt.job_id and position is not null) as is_of_sheet
         from attempt where id = :attempt and runner_id = :runner and lease = :lease";
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        lease: SqlUuid = Db(held.lease),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Records that the command was started. `desired_state` is what is asked of the runner from now on, where that changes.
pub async fn start(
    connection: &mut Connection,
    held: HeldLease,
    session: SessionId,
    started: Moment,
    desired_state: Option<DesiredState>,
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
           where id = :attempt and runner_id = :runner and lease = :lease and state = any(:attempt_before_start) returning id, job_id, runner_id, started_at),
         j as (
           update job set state = :job_executing, started_at = a.started_at
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_start)
           returning job.id, a.id as attempt, a.runner_id),
         o as ("
           change JobStarted { job: "id", attempt: "attempt", runner: "runner_id" } at ":at" from "j"
           "),
         u as (
           update runner r set desired_state = :desired_state from a where r.id = a.runner_id and :desired_state::text is not null returning r.id, r.desired_state),
         uo as ("
           change RunnerDesiredStateChanged { runner: "id", desired_state: "desired_state" } at ":at" from "u"
           ")
         select count(*) as changed from a";
        attempt_executing: Text = Db(AttemptState::Executing),
        session: SqlUuid = Db(session),
        at: Timestamptz = Db(at),
        started: Timestamptz = Db(started),
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        lease: SqlUuid = Db(held.lease),
        attempt_before_start: Array<Text> = words(&from),
        job_executing: Text = Db(JobState::Executing),
        job_before_start: Array<Text> = words(&JobState::before(JobEvent::Start, JobState::Executing)),
        desired_state: Nullable<Text> = desired_state.map(Db),
    )
    .get_result(connection)
    .await?;
    if row.changed > 0 {
        return Ok(Reported::Kept);
    }
    let state = standing(connection, held).await?.map(|row| row.state.0);
    Ok(match state {
        Some(state) if state.after(AttemptEvent::Start).is_ok() => Reported::Kept,
        _ => Reported::Over,
    })
}

/// The command has ended; the log is still on its way.
pub async fn exit(
    connection: &mut Connection,
    held: HeldLease,
    exited: Moment,
    at: Moment,
) -> Result<()> {
    sql!(
        "with a as (
           update attempt set state = :attempt_finalizing, exited_at = greatest(:exited, started_at)
           where id = :attempt and runner_id = :runner and lease = :lease and state = :attempt_executing returning id, job_id),
         j as (
           update job set state = :job_finalizing from a
           where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before_exit) returning job.id)"
         change JobFinalizing { job: "id" } at ":at" from "j";
        attempt_finalizing: Text = Db(AttemptState::Finalizing),
        exited: Timestamptz = Db(exited),
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        lease: SqlUuid = Db(held.lease),
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
pub struct AttemptEnd {
    pub result: Outcome,
    pub message: Option<String>,
    pub exit_code: Option<i32>,
    /// When the command was started, by the report of its end.
    pub started: Option<Moment>,
    /// How long it ran, by the runner's own clock.
    pub ran: Option<Micros>,
    pub processor: Option<Micros>,
    pub peak_memory: Option<ByteSize>,
    pub bytes_read: Option<ByteSize>,
    pub bytes_written: Option<ByteSize>,
    pub log_bytes: i64,
    pub log_capped: bool,
    pub phases: Phases,
}

/// The runner reports the end. Accepted once, and only when its whole log is durable; a repeat is recognised.
pub async fn finish(
    connection: &mut Connection,
    held: HeldLease,
    end: &AttemptEnd,
    job: JobEnd,
    at: Moment,
) -> Result<Reported> {
    let again = job == JobEnd::TriedAgain;
    let (job_state, job_before) = match again {
        true => (
            JobState::Pending,
            JobState::before(JobEvent::Retry, JobState::Pending),
        ),
        false => (
            JobState::Done,
            JobState::before(JobEvent::Finish, JobState::Done),
        ),
    };
    let row: CountRow = sql!(
        "with log as (
           update attempt_log set complete = true, capped = :log_capped
           where attempt_id = :attempt and length = :log_bytes
             and exists (select from attempt t where id = :attempt and runner_id = :runner and lease = :lease
                                               and state = any(:attempt_before_finish)
                                               and (:run_is_locked or not exists (
                                                 select from job where job.id = t.job_id and position is not null)))
           returning attempt_id),
         a as (
           update attempt set state = :attempt_done, result = :result, message = :message, exit_code = :exit_code,
                  started_at = coalesce(started_at, :started), exited_at = least(:at, coalesce(started_at, :started) + :ran * interval '1 microsecond'),
                  finished_at = :at, processor_us = :processor, peak_memory = :peak_memory, bytes_read = :bytes_read,
                  bytes_written = :bytes_written, log_bytes = :log_bytes, log_capped = :log_capped,
                  phases = :phases,
                  accepted = exists (select from job where job.id = attempt.job_id and job.current_attempt = attempt.id)
           from log where id = log.attempt_id and runner_id = :runner and lease = :lease and state = any(:attempt_before_finish)
           returning id, job_id, runner_id, started_at, exit_code, result, message, finished_at),
         j as (
           update job set state = :job_state, result = case when not :again then a.result end, message = a.message,
                  exit_code = a.exit_code, failures = failures + :again::integer,
                  started_at = case when not :again then coalesce(job.started_at, a.started_at) end,
                  finished_at = case when not :again then a.finished_at end,
                  current_attempt = case when not :again then current_attempt end,
                  waits_since = case when :again then a.finished_at else waits_since end,
                  give_up_at = case when :again then a.finished_at + give_up_us * interval '1 microsecond' else give_up_at end
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before)
           returning job.id, job.result, job.strand_id, job.number, job.project_id, job.fail_unmatched),
         o1 as ("
           change AttemptEnded { attempt: "id", job: "job_id", runner: "runner_id", lost: "false" } at "finished_at" from "a"
           "),
         o2 as ("
           change JobDone { job: "id", result: "result" } at ":at" from "j where not :again"
           "),
         o3 as ("
           change JobPending { job: "id", strand: "strand_id", project: "project_id", number: "number", again: "true", fail_unmatched: "fail_unmatched" } at ":at" from "j where :again"
           ")
         select count(*) as changed from a";
        log_capped: Bool = end.log_capped,
        phases: Jsonb = Json(&end.phases),
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        log_bytes: BigInt = end.log_bytes,
        attempt_done: Text = Db(AttemptState::Done),
        result: Text = Db(end.result),
        message: Nullable<Text> = &end.message,
        exit_code: Nullable<Integer> = end.exit_code,
        started: Nullable<Timestamptz> = end.started.map(Db),
        at: Timestamptz = Db(at),
        ran: Nullable<BigInt> = end.ran.map(Db),
        processor: Nullable<BigInt> = end.processor.map(Db),
        peak_memory: Nullable<BigInt> = stored_size(end.peak_memory),
        bytes_read: Nullable<BigInt> = stored_size(end.bytes_read),
        bytes_written: Nullable<BigInt> = stored_size(end.bytes_written),
        lease: SqlUuid = Db(held.lease),
        attempt_before_finish: Array<Text> = words(&AttemptState::before(AttemptEvent::Finish, AttemptState::Done)),
        run_is_locked: Bool = job != JobEnd::Alone,
        again: Bool = again,
        job_state: Text = Db(job_state),
        job_before: Array<Text> = words(&job_before),
    )
    .get_result(connection)
    .await?;
    if row.changed > 0 {
        return Ok(Reported::Kept);
    }
    match standing(connection, held).await? {
        Some(row) if row.state.0 == AttemptState::Done && row.accepted => Ok(Reported::Kept),
        Some(row) if row.state.0 != AttemptState::Done => {
            if row.is_of_sheet && job == JobEnd::Alone {
                return Ok(Reported::OfSheet);
            }
            let length = crate::log::state(connection, held.attempt)
                .await?
                .map_or(0, |log| log.length);
            Ok(Reported::LogShort(length))
        }
        _ => Ok(Reported::Over),
    }
}

/// Whose log this is: the attempt's runner and lease, while it is not over.
pub async fn holds_lease(connection: &mut Connection, held: HeldLease) -> Result<bool> {
    let row: CountRow = sql!(
        "select count(*) as changed from attempt where id = :attempt and runner_id = :runner and lease = :lease and open";
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        lease: SqlUuid = Db(held.lease),
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
           select 1 from runner_presence
           where runner_id = :runner and session <> :session and seen_at > :since and closed_at is null),
         kept as (
           update attempt set session = :session
           where id = any(:held) and runner_id = :runner and open and not exists (select from other))
         insert into runner_presence (runner_id, session, seen_at)
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

/// A size as it is stored; none where it is larger than any that can be.
fn stored_size(size: Option<ByteSize>) -> Option<i64> {
    size.and_then(|size| i64::try_from(size.0).ok())
}
