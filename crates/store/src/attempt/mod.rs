//! Attempts: assigned in batches under the fence ([`assign`]), reported on by their runners ([`report`]), lost ([`loss`]).

pub mod loss;
pub mod report;

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::{self, Epoch};
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::dispatch::Assignment;
use pennine_core::id::{AttemptId, JobId, LeaseToken, RunnerId, SessionId, StrandId};
use pennine_core::job_policy::JobPolicy;
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::phase::Phases;
use pennine_core::secret::SecretUses;
use pennine_core::source::JobSource;
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use std::collections::BTreeMap;

/// What became of a batch.
#[derive(Clone, Debug)]
pub enum CommitResult {
    /// These attempts exist now. What is missing from the batch had changed underneath.
    Kept(Vec<ForRunner>),
    /// Another replica leads by now; nothing was changed.
    Deposed,
}

/// The columns of [`ForRunner`], for `attempt a`, `job j`, `place p` and `pool`.
macro_rules! for_runner_columns {
    () => {
        "select a.id, a.lease, a.number, a.state, a.session, j.number as job_number, j.title, p.path as project,
                pool.name as pool, pool.labels as pool_labels, pool.jobs as policy, j.trust, j.requirement, j.command, j.commands,
                j.variables, j.secrets,
                -- Of several with one name, the one of the pool, then that of the nearest place.
                (select coalesce(jsonb_object_agg(v.name, v.value order by v.pool_id is not null, length(vp.path)), '{}')
                 from variable v left join place vp on vp.id = v.place_id
                 where v.pool_id = pool.id or vp.path in ('', p.path) or starts_with(p.path, vp.path || '/')) as inherited_variables,
                j.time_limit_us, j.cancel_by, j.seats <> '{}' as exclusive,
                (select case when r.repository is null
                   then jsonb_build_object('archive', jsonb_build_object('bytes', s.bytes, 'digest', s.digest))
                   else jsonb_build_object('repository', jsonb_build_object('url', r.repository, 'revision', r.revision)) end
                 from run r left join source_archive s on s.id = r.source_id
                 where j.position is not null and r.id = j.run_id and (r.repository is not null or s.id is not null)) as source"
    };
}

/// Commits a batch of assignments: only under the epoch's fence, only jobs that still wait, only runners that still
/// take work, and untrusted jobs only in pools that still take them. One statement, so one round trip and one durable commit for the whole batch.
pub async fn assign(
    connection: &mut Connection,
    epoch: Epoch,
    at: Moment,
    batch: &[(Assignment, LeaseToken)],
) -> Result<CommitResult> {
    let kept: Vec<ForRunner> = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
         wanted as (select * from unnest(:attempts, :jobs, :runners, :leases) as w(attempt, job, runner, lease)),
         able as (
           select w.*, r.pool_id, r.facts_version, p.policy_version, p.takes_untrusted
           from wanted w join runner r on r.id = w.runner join pool p on p.id = r.pool_id, fence
           where r.state = 'available' and r.desired_state = 'work'),
         taken as (
           update job set current_attempt = able.attempt, attempts = attempts + 1
           from able where job.id = able.job and job.state = :pending and job.current_attempt is null
             and job.cancel_at is null and (job.trust = :trusted or able.takes_untrusted)
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
         "
           for_runner_columns!()
           " from made a join taken j on j.attempt = a.id join place p on p.id = j.project_id join pool on pool.id = a.pool_id";
        epoch: BigInt = epoch.0,
        attempts: Array<SqlUuid> = batch.iter().map(|(a, _)| a.attempt.0).collect::<Vec<_>>(),
        jobs: Array<SqlUuid> = batch.iter().map(|(a, _)| a.job.0).collect::<Vec<_>>(),
        runners: Array<SqlUuid> = batch.iter().map(|(a, _)| a.runner.0).collect::<Vec<_>>(),
        leases: Array<SqlUuid> = batch.iter().map(|(_, lease)| lease.0).collect::<Vec<_>>(),
        pending: Text = Db(JobState::Pending),
        trusted: Text = Db(Trust::Trusted),
        assigned: Text = Db(AttemptState::Assigned),
        at: Timestamptz = Db(at),
    )
    .load(connection)
    .await?;
    // Nothing kept: either everything had changed underneath, or the fence stood in the way.
    if kept.is_empty() && !leadership::is_epoch(connection, epoch).await? {
        return Ok(CommitResult::Deposed);
    }
    Ok(CommitResult::Kept(kept))
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
    /// What the job may reach and use on its machine.
    #[diesel(sql_type = Jsonb)]
    pub policy: Json<JobPolicy>,
    #[diesel(sql_type = Text)]
    pub trust: Db<Trust>,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Jsonb)]
    pub command: Json<Vec<String>>,
    /// Its commands, where it is of a job sheet that lists them.
    #[diesel(sql_type = Jsonb)]
    pub commands: Json<Vec<String>>,
    #[diesel(sql_type = Jsonb)]
    pub variables: Json<BTreeMap<String, String>>,
    /// The secrets that it is given.
    #[diesel(sql_type = Jsonb)]
    pub secrets: Json<SecretUses>,
    /// Those of its pool, of its project, and of the places above it.
    #[diesel(sql_type = Jsonb)]
    pub inherited_variables: Json<BTreeMap<String, String>>,
    #[diesel(sql_type = BigInt)]
    pub time_limit_us: Db<Micros>,
    #[diesel(sql_type = Nullable<Text>)]
    pub cancel_by: Option<String>,
    /// Whether it holds seats.
    #[diesel(sql_type = Bool)]
    pub exclusive: bool,
    /// What it begins with.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub source: Option<Json<JobSource>>,
}

/// The attempts of a runner that are not over.
pub async fn for_runner(connection: &mut Connection, runner: RunnerId) -> Result<Vec<ForRunner>> {
    Ok(sql!(
        for_runner_columns!()
        " from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         join pool on pool.id = a.pool_id
         where a.runner_id = :runner and a.open order by a.id";
        runner: SqlUuid = Db(runner),
    )
    .load(connection)
    .await?)
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
    /// When the cancellation of its job was requested.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub cancel_at: Option<Db<Moment>>,
    #[diesel(embed)]
    pub job: loss::JobRow,
}

/// Every attempt that is not over.
pub async fn open(connection: &mut Connection) -> Result<Vec<Open>> {
    Ok(sql!(
        "select a.id, a.job_id, a.runner_id, a.strand_id, r.name as runner, r.state = 'retired' as runner_retired,
                a.state, a.assigned_at, a.session, a.seats_back_at is not null as seats_back,
                j.tries, j.losses, j.cancel_by, j.give_up_us, j.cancel_at
         from attempt a join runner r on r.id = a.runner_id join job j on j.id = a.job_id where a.open"
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
    pub message: Option<String>,
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
    #[diesel(sql_type = Jsonb)]
    pub phases: Json<Phases>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub processor_us: Option<Db<Micros>>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub peak_memory: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub bytes_read: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub bytes_written: Option<i64>,
    #[diesel(sql_type = BigInt)]
    pub log_bytes: i64,
    #[diesel(sql_type = Bool)]
    pub log_capped: bool,
    /// Whether it ran elsewhere and was imported.
    #[diesel(sql_type = Bool)]
    pub imported: bool,
}

/// The attempts of these jobs, by job and number.
pub async fn of_jobs(connection: &mut Connection, jobs: &[JobId]) -> Result<Vec<Attempt>> {
    Ok(sql!(
        "select a.id, a.job_id, a.number, a.state, a.runner_id, r.name as runner, p.name as pool, a.strand_id,
                a.result, a.accepted, a.message, a.exit_code, a.ready_at, a.assigned_at, a.started_at, a.exited_at,
                a.finished_at, a.phases, a.processor_us, a.peak_memory, a.bytes_read, a.bytes_written, coalesce(l.length, a.log_bytes, 0) as log_bytes,
                a.log_capped, a.imported
         from attempt a join runner r on r.id = a.runner_id join pool p on p.id = a.pool_id
         left join attempt_log l on l.attempt_id = a.id
         where a.job_id = any(:jobs) order by a.job_id, a.number";
        jobs: Array<SqlUuid> = jobs.iter().map(|job| job.0).collect::<Vec<_>>(),
    )
    .load(connection)
    .await?)
}
