//! Runners: their records and states.

use crate::change::Change;
use crate::connect::Connection;
use crate::error::Result;
use crate::outbox;
use crate::runner_facts::MachineReport;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{
    Array, BigInt, Bytea, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use diesel_async::AsyncConnection;
use pennine_core::dispatch::RunnerView;
use pennine_core::fact::{Facts, Subject};
use pennine_core::id::{PoolId, RunnerId, SessionId};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::overrides::{Overrides, ReportedFacts};
use pennine_core::time::Moment;
use std::collections::HashMap;
use uuid::Uuid;

/// A runner, with its pool's name and labels, how many of its slots are used, and when it was last heard of.
#[derive(Clone, Debug, QueryableByName)]
pub struct Runner {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<RunnerId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Array<Text>)]
    pub pool_labels: Vec<String>,
    #[diesel(sql_type = Text)]
    pub name: String,
    /// As stored: a connected runner that takes work is `available`, however many slots it uses.
    #[diesel(sql_type = Text)]
    pub state: Db<RunnerState>,
    #[diesel(sql_type = Timestamptz)]
    pub state_since: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub state_reason: String,
    #[diesel(sql_type = Text)]
    pub desired_state: Db<DesiredState>,
    #[diesel(sql_type = Integer)]
    pub slots: i32,
    #[diesel(sql_type = Array<Text>)]
    pub labels: Vec<String>,
    #[diesel(sql_type = Jsonb)]
    pub facts: Json<Facts>,
    #[diesel(sql_type = Integer)]
    pub facts_version: i32,
    #[diesel(sql_type = Text)]
    pub program: String,
    #[diesel(sql_type = Text)]
    pub description: String,
    #[diesel(sql_type = Jsonb)]
    pub reported: Json<ReportedFacts>,
    #[diesel(sql_type = Jsonb)]
    pub settings: Json<Overrides>,
    #[diesel(sql_type = Integer)]
    pub settings_version: i32,
    /// How many jobs it could have at once just now, where that is fewer than its slots.
    #[diesel(sql_type = Nullable<Integer>)]
    pub room: Option<i32>,
    /// Whether it takes one job and leaves permanently.
    #[diesel(sql_type = diesel::sql_types::Bool)]
    pub single_use: bool,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = BigInt)]
    pub used: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub seen_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub closed_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub session: Option<Db<SessionId>>,
}

impl Runner {
    /// How many slots it has.
    pub fn slots(&self) -> u32 {
        self.slots.max(0).unsigned_abs()
    }

    /// How many jobs it could have at once just now.
    pub fn room(&self) -> u32 {
        let room = self.room.map(|room| room.max(0).unsigned_abs());
        room.map_or(self.slots(), |room| room.min(self.slots()))
    }

    /// How many of them are used.
    pub fn used(&self) -> u32 {
        u32::try_from(self.used).unwrap_or(u32::MAX)
    }

    /// The runner as dispatch sees it.
    pub fn view(&self) -> RunnerView {
        let labels = self
            .labels
            .iter()
            .chain(&self.pool_labels)
            .map(String::as_str);
        RunnerView {
            id: self.id.0,
            name: self.name.clone(),
            pool: self.pool_id.0,
            slots: self.room(),
            state: self.state.0,
            desired_state: self.desired_state.0,
            subject: Subject::new(&self.name, &self.pool, labels, &self.facts.0),
        }
    }
}

/// The columns of [`Runner`]; `$known` is what is known of its machine, `$used` says of which attempts the slots in use
/// are counted.
macro_rules! runner_query {
    ($used:literal, $which:literal) => {
        runner_query!("r.facts, r.reported, r.settings", $used, $which)
    };
    ($known:literal, $used:literal, $which:literal) => {
        concat!(
            "select r.id, r.number, r.pool_id, p.name as pool, p.labels as pool_labels, r.name, r.state, r.state_since,
                    r.state_reason, r.desired_state, r.slots, r.labels, ",
            $known,
            ", r.facts_version, r.program, r.description, r.settings_version, r.room, r.single_use, r.created_at,
                    coalesce(u.used, 0) as used, s.seen_at, s.closed_at, s.session
             from runner r join pool p on p.id = r.pool_id
             left join runner_presence s on s.runner_id = r.id
             left join (select runner_id, count(*) as used from attempt where open ",
            $used,
            " group by 1) u on u.runner_id = r.id where ",
            $which,
            " order by p.name, r.name"
        )
    };
}

/// Runners by pool and name: the listed ones, retired or not; all that are not retired when none are listed.
pub async fn list(connection: &mut Connection, only: Option<&[RunnerId]>) -> Result<Vec<Runner>> {
    let Some(only) = only else {
        let all = sql!(runner_query!("", "r.state <> 'retired'"));
        return Ok(all.load(connection).await?);
    };
    let ids: Vec<Uuid> = only.iter().map(|id| id.0).collect();
    Ok(sql!(
        runner_query!("and runner_id = any(:ids)", "r.id = any(:ids)");
        ids: Array<SqlUuid> = &ids,
    )
    .load(connection)
    .await?)
}

/// Every runner that is not retired, without what is known of its machine.
pub async fn list_brief(connection: &mut Connection) -> Result<Vec<Runner>> {
    let all = sql!(runner_query!(
        "jsonb '{}' as facts, jsonb '{\"labels\": [], \"facts\": {}, \"slots\": 0}' as reported, jsonb '{}' as settings",
        "",
        "r.state <> 'retired'"
    ));
    Ok(all.load(connection).await?)
}

/// The pools of some runners.
pub async fn pools_of(
    connection: &mut Connection,
    ids: &[RunnerId],
) -> Result<Vec<(RunnerId, PoolId)>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
        #[diesel(sql_type = SqlUuid)]
        pool_id: Db<PoolId>,
    }
    let rows: Vec<Row> = sql!(
        "select id, pool_id from runner where id = any(:ids)";
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<_>>(),
    )
    .load(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|row| (row.id.0, row.pool_id.0))
        .collect())
}

/// The names of all runners that there ever were, each with its pool's before it.
pub async fn names(connection: &mut Connection) -> Result<Vec<(RunnerId, String)>> {
    #[derive(QueryableByName)]
    struct Named {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
        #[diesel(sql_type = Text)]
        name: String,
    }
    let rows: Vec<Named> = sql!(
        "select r.id, p.name || '/' || r.name as name from runner r join pool p on p.id = r.pool_id"
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.id.0, row.name)).collect())
}

/// The ids of the runners with this id, short number or name; several where pools have runners of one name.
pub async fn find(
    connection: &mut Connection,
    id: Option<Uuid>,
    number: Option<i64>,
    name: &str,
) -> Result<Vec<RunnerId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
    }
    let rows: Vec<Row> = sql!(
        "select id from runner where id = :id or number = :number or (lower(name) = lower(:name) and state <> 'retired')
         order by number";
        id: Nullable<SqlUuid> = id,
        number: Nullable<BigInt> = number,
        name: Text = name,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Turns an awaited runner into one that has joined. False when it is not awaited any more.
pub async fn enrol(
    connection: &mut Connection,
    id: RunnerId,
    name: &str,
    about: &MachineReport<'_>,
    credential_hash: &[u8],
    to: RunnerState,
    at: Moment,
) -> Result<bool> {
    let joined = sql!(
        "with r as (
           update runner set name = :name, state = :to, state_since = :at, state_reason = 'it has joined and not connected yet',
                  slots = :slots, labels = :labels, facts = :facts, facts_version = 1, reported = :reported, program = :program, credential_hash = :credential_hash,
                  credential_since = :at
           where id = :id and state = :awaited returning *),
         f as (
           insert into runner_facts (runner_id, version, facts, labels, slots, program, since)
           select id, 1, facts, labels, slots, program, state_since from r)"
         change RunnerJoined { runner: "id", name: "name" } at "state_since" from "r";
        name: Text = name,
        to: Text = Db(to),
        at: Timestamptz = Db(at),
        slots: Integer = i32::try_from(about.slots).unwrap_or(i32::MAX),
        labels: Array<Text> = about.labels,
        facts: Jsonb = Json(about.facts.clone()),
        reported: Jsonb = Json(about.reported()),
        program: Text = about.program,
        credential_hash: Bytea = credential_hash,
        id: SqlUuid = Db(id),
        awaited: Text = Db(RunnerState::Awaited),
    )
    .execute(connection)
    .await?;
    Ok(joined == 1)
}

/// Retires a runner; its record stays. False when it was retired already.
pub async fn retire(
    connection: &mut Connection,
    id: RunnerId,
    reason: &str,
    at: Moment,
) -> Result<bool> {
    let retired = sql!(
        "with r as (
           update runner set state = :retired, state_since = :at, state_reason = :reason where id = :id and state <> :retired returning *)"
         change RunnerRetired { runner: "id", reason: "state_reason" } at "state_since" from "r";
        retired: Text = Db(RunnerState::Retired),
        at: Timestamptz = Db(at),
        reason: Text = reason,
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
    Ok(retired == 1)
}

/// Records how many jobs a runner could have at once just now; nothing where that is as its slots say.
pub async fn set_room(
    connection: &mut Connection,
    id: RunnerId,
    room: Option<i32>,
    at: Moment,
) -> Result<()> {
    sql!(
        "with r as (update runner set room = :room where id = :id returning id)"
         change RunnerChanged { runner: "id" } at ":at" from "r";
        room: Nullable<Integer> = room,
        id: SqlUuid = Db(id),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Moves a runner from one state to another, with the reason. False when it was not in the first.
pub async fn set_state(
    connection: &mut Connection,
    id: RunnerId,
    from: RunnerState,
    to: RunnerState,
    reason: &str,
    at: Moment,
) -> Result<bool> {
    let moved = sql!(
        "with r as (
           update runner set state = :to, state_since = :at, state_reason = :reason where id = :id and state = :from returning *)"
         change RunnerStateChanged { runner: "id", state: "state", reason: "state_reason" } at "state_since" from "r";
        to: Text = Db(to),
        at: Timestamptz = Db(at),
        reason: Text = reason,
        id: SqlUuid = Db(id),
        from: Text = Db(from),
    )
    .execute(connection)
    .await?;
    Ok(moved == 1)
}

/// What a runner executes.
#[derive(Clone, Debug, QueryableByName)]
pub struct Executing {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
}

/// What the runners execute now.
pub async fn executing(connection: &mut Connection) -> Result<Vec<Executing>> {
    Ok(sql!(
        "select a.runner_id, j.number as job_number, j.title, p.path as project, a.started_at
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         where a.open order by j.number"
    )
    .load(connection)
    .await?)
}

/// Sets what people want of a runner. False when there is no such runner, or it is gone permanently.
pub async fn set_desired_state(
    connection: &mut Connection,
    id: RunnerId,
    desired_state: DesiredState,
    by: Option<&str>,
    at: Moment,
) -> Result<bool> {
    connection
        .transaction(async |connection| {
            let set = sql!(
                "update runner set desired_state = :desired_state, desired_by = :by where id = :id and state not in ('retired', 'awaited')";
                desired_state: Text = Db(desired_state),
                by: Nullable<Text> = by,
                id: SqlUuid = Db(id),
            )
            .execute(connection)
            .await?;
            if set == 1 {
                outbox::write(connection, at, &Change::RunnerDesiredStateChanged { runner: id, desired_state })
                .await?;
            }
            Ok(set == 1)
        })
        .await
}

/// Returns the person who keeps a runner from accepting jobs, if one does, and locks the runner's row until the end of the
/// transaction.
pub async fn paused_by(connection: &mut Connection, id: RunnerId) -> Result<Option<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Nullable<Text>)]
        by: Option<String>,
    }
    let row: Option<Row> = sql!(
        "select desired_by as by from runner where id = :id and desired_state <> :work for update";
        id: SqlUuid = Db(id),
        work: Text = Db(DesiredState::Work),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.and_then(|row| row.by))
}

/// Returns when these runners last had a job, as far as they ever had one.
pub async fn last_worked(
    connection: &mut Connection,
    ids: &[Db<RunnerId>],
) -> Result<HashMap<RunnerId, Moment>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    let rows: Vec<Row> = sql!(
        "select r.id, coalesce(a.finished_at, a.assigned_at) as at
         from unnest(:ids::uuid[]) as r(id) cross join lateral (
           select finished_at, assigned_at from attempt where runner_id = r.id order by id desc limit 1) a";
        ids: Array<SqlUuid> = ids,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.id.0, row.at.0)).collect())
}
