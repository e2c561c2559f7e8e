//! Attempts that were lost: the outcome is decided in the core and written here, as long as what it was decided from holds.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::statement::sql;
use crate::types::{Db, words};
use diesel::sql_types::{BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::lifecycle::attempt::{AttemptEvent, AttemptState};
use pennine_core::lifecycle::job::{JobEvent, JobState, Outcome};
use pennine_core::lifecycle::outcome::{JobOutcome, JobView, Loss};
use pennine_core::time::{Micros, Moment};

/// What an outcome depends on of an attempt's job.
#[derive(Clone, Debug, QueryableByName)]
pub struct JobRow {
    #[diesel(sql_type = Integer)]
    pub tries: i32,
    #[diesel(sql_type = Integer)]
    pub losses: i32,
    #[diesel(sql_type = Nullable<Text>)]
    pub cancel_by: Option<String>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub give_up_us: Option<Db<Micros>>,
}

impl JobRow {
    /// Returns the job as the core sees it.
    pub fn view(&self) -> JobView {
        JobView {
            tries: self.tries.max(0).unsigned_abs(),
            losses: self.losses.max(0).unsigned_abs(),
            cancelled_by: self.cancel_by.clone(),
            give_up_after: self.give_up_us.map(|after| after.0.into()),
        }
    }
}

/// Returns what an outcome depends on for an attempt that is not over: its job, and its runner.
pub async fn job_of(
    connection: &mut Connection,
    attempt: AttemptId,
) -> Result<Option<(JobView, RunnerId)>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        runner_id: Db<RunnerId>,
        #[diesel(embed)]
        job: JobRow,
    }
    let row: Option<Row> = sql!(
        "select a.runner_id, j.tries, j.losses, j.cancel_by, j.give_up_us
         from attempt a join job j on j.id = a.job_id where a.id = :attempt and a.open";
        attempt: SqlUuid = Db(attempt),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| (row.job.view(), row.runner_id.0)))
}

/// What became of an outcome that was to be written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum WriteResult {
    /// It is on record.
    Recorded,
    /// The job is not as it was when the outcome was decided: read it again and decide again.
    Stale,
    /// The attempt was over already, or another replica leads.
    Nothing,
}

/// Ends an attempt that was lost, and gives its job the outcome that [`pennine_core::lifecycle::outcome::after_loss`]
/// decided from `seen`. What the leader concludes is written only under its epoch; what a runner or a person says needs
/// none. An attempt that is no longer its job's current one ends and leaves the job alone.
pub async fn end_lost(
    connection: &mut Connection,
    epoch: Option<Epoch>,
    attempt: AttemptId,
    loss: &Loss,
    seen: &JobView,
    outcome: &JobOutcome,
    at: Moment,
) -> Result<WriteResult> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Bool)]
        ended: bool,
        #[diesel(sql_type = Bool)]
        stale: bool,
    }
    let small = |count: u32| i32::try_from(count).unwrap_or(i32::MAX);
    let (losses, state, give_up_at) = match outcome {
        JobOutcome::Retry {
            losses, give_up_at, ..
        } => (small(*losses), JobState::Pending, *give_up_at),
        JobOutcome::Done { losses, .. } => (small(*losses), JobState::Done, None),
    };
    let (result, message) = match outcome {
        JobOutcome::Retry { .. } => (None, None),
        JobOutcome::Done {
            result, message, ..
        } => (Some(Db(*result)), Some(message.as_str())),
    };
    let before = match state {
        JobState::Pending => JobState::before(JobEvent::Retry, JobState::Pending),
        _ => JobState::before(JobEvent::Finish, JobState::Done),
    };
    let row: Row = sql!(
        "with fence as materialized (select epoch from leadership where epoch = coalesce(:epoch, epoch) for share),
         -- Locked first, so that a cancellation that comes now comes after this.
         seen as materialized (
           select j.id, j.current_attempt = :attempt as is_current,
                  j.losses = :known_losses and (j.cancel_at is not null) = :known_cancelled as holds
           from job j join attempt t on t.job_id = j.id where t.id = :attempt and t.open for update of j),
         a as (
           update attempt set state = :attempt_done, result = :error, message = :message, finished_at = :at
           from fence, seen where attempt.id = :attempt and state = any(:attempt_before)
             and (seen.holds or not seen.is_current)
           returning attempt.id, job_id, runner_id),
         log as (update attempt_log set complete = true from a where attempt_id = a.id),
         j as (
           update job set losses = :losses, avoid_runner = a.runner_id, state = :job_state, result = :job_result,
                  message = :job_message,
                  current_attempt = case when :again then null else current_attempt end,
                  waits_since = case when :again then :at else waits_since end,
                  give_up_at = case when :again then :give_up_at else give_up_at end,
                  started_at = case when :again then null else job.started_at end,
                  finished_at = case when :again then null else :at end
           from a where job.id = a.job_id and job.current_attempt = a.id and job.state = any(:job_before)
           returning job.id, job.state, job.result, job.strand_id, job.number, job.project_id, job.fail_unmatched),
         o1 as ("
        change AttemptEnded { attempt: "id", job: "job_id", runner: "runner_id", lost: "true" } at ":at" from "a"
        "),
         o2 as ("
        change JobDone { job: "id", result: "result" } at ":at" from "j where not :again"
        "),
         o3 as ("
        change JobPending {
            job: "id", strand: "strand_id", project: "project_id", number: "number",
            again: "true", fail_unmatched: "fail_unmatched",
        } at ":at" from "j where :again"
        ")
         select exists (select from a) as ended,
                exists (select from seen, fence where is_current and not holds) as stale";
        epoch: Nullable<BigInt> = epoch.map(|epoch| epoch.0),
        attempt: SqlUuid = Db(attempt),
        known_losses: Integer = small(seen.losses),
        known_cancelled: Bool = seen.cancelled_by.is_some(),
        attempt_done: Text = Db(AttemptState::Done),
        error: Text = Db(Outcome::Error),
        message: Text = &loss.message,
        at: Timestamptz = Db(at),
        attempt_before: diesel::sql_types::Array<Text> = words(&AttemptState::before(AttemptEvent::Lose, AttemptState::Done)),
        losses: Integer = losses,
        job_state: Text = Db(state),
        job_result: Nullable<Text> = result,
        job_message: Nullable<Text> = message,
        again: Bool = state == JobState::Pending,
        give_up_at: Nullable<Timestamptz> = give_up_at.map(Db),
        job_before: diesel::sql_types::Array<Text> = words(&before),
    )
    .get_result(connection)
    .await?;
    Ok(match (row.ended, row.stale) {
        (true, _) => WriteResult::Recorded,
        (false, true) => WriteResult::Stale,
        (false, false) => WriteResult::Nothing,
    })
}
