//! Maintenance: stretches of time in which a pool, or one runner, takes nothing new.

use crate::connect::Connection;
use crate::error::Result;
use crate::pool::OwnedPool;
use crate::runner::Runner;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::dispatch::{PoolView, RunnerView};
use pennine_core::id::{MaintenanceId, PoolId, RunnerId, ShortName};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::time::Moment;

/// One stretch.
#[derive(Clone, Debug, QueryableByName)]
pub struct Maintenance {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<MaintenanceId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub pool_id: Option<Db<PoolId>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub runner_id: Option<Db<RunnerId>>,
    /// The pool, or that of the runner.
    #[diesel(sql_type = SqlUuid)]
    pub in_pool: Db<PoolId>,
    /// The pool's or the runner's name.
    #[diesel(sql_type = Text)]
    pub of: String,
    #[diesel(sql_type = Timestamptz)]
    pub from_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub until_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub reason: String,
    #[diesel(sql_type = Text)]
    pub created_by: String,
}

impl Maintenance {
    /// Its short name.
    pub fn short(&self) -> String {
        ShortName::Maintenance.name(self.number)
    }

    /// Whether it is now.
    pub fn is_on(&self, now: Moment) -> bool {
        self.from_at.0 <= now && now < self.until_at.0
    }
}

/// All that are on or to come.
#[derive(Clone, Debug, Default)]
pub struct Calendar(pub Vec<Maintenance>);

impl Calendar {
    /// Reads it.
    pub async fn read(connection: &mut Connection, now: Moment) -> Result<Calendar> {
        open(connection, now).await.map(Calendar)
    }

    /// Returns the current maintenance.
    pub fn on(&self, now: Moment) -> impl Iterator<Item = &Maintenance> {
        self.0.iter().filter(move |one| one.is_on(now))
    }

    /// What keeps a pool from taking work.
    pub fn of_pool(&self, pool: PoolId, now: Moment) -> Option<&Maintenance> {
        self.on(now)
            .find(|one| one.pool_id.is_some_and(|id| id.0 == pool))
    }

    /// What keeps a runner from taking work, its pool aside.
    pub fn of_runner(&self, runner: RunnerId, now: Moment) -> Option<&Maintenance> {
        self.on(now)
            .find(|one| one.runner_id.is_some_and(|id| id.0 == runner))
    }

    /// A pool as dispatch sees it now.
    pub fn pool(&self, pool: &OwnedPool, now: Moment) -> PoolView {
        let mut view = pool.view();
        view.paused |= self.of_pool(view.id, now).is_some();
        view
    }

    /// A runner as dispatch sees it now.
    pub fn runner(&self, runner: &Runner, now: Moment) -> RunnerView {
        let mut view = runner.view();
        if view.desired_state == DesiredState::Work && self.of_runner(view.id, now).is_some() {
            view.desired_state = DesiredState::Pause;
        }
        view
    }
}

/// What to make one from.
pub struct NewMaintenanceRow<'a> {
    pub id: MaintenanceId,
    pub pool: Option<PoolId>,
    pub runner: Option<RunnerId>,
    pub from: Moment,
    pub until: Moment,
    pub reason: &'a str,
    pub by: &'a str,
    pub at: Moment,
}

/// Plans one.
pub async fn insert(connection: &mut Connection, new: NewMaintenanceRow<'_>) -> Result<()> {
    sql!(
        "with m as (
           insert into maintenance (id, pool_id, runner_id, from_at, until_at, reason, created_by, created_at)
           values (:id, :pool, :runner, :from, :until, :reason, :by, :at) returning *)"
         change MaintenanceScheduled { maintenance: "id" } at "created_at" from "m";
        id: SqlUuid = Db(new.id),
        pool: Nullable<SqlUuid> = new.pool.map(Db),
        runner: Nullable<SqlUuid> = new.runner.map(Db),
        from: Timestamptz = Db(new.from),
        until: Timestamptz = Db(new.until),
        reason: Text = new.reason,
        by: Text = new.by,
        at: Timestamptz = Db(new.at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returns current and scheduled maintenance, the earliest first.
pub async fn open(connection: &mut Connection, now: Moment) -> Result<Vec<Maintenance>> {
    Ok(sql!(
        "select m.id, m.number, m.pool_id, m.runner_id, coalesce(m.pool_id, r.pool_id) as in_pool,
                coalesce(p.name, r.name) as of, m.from_at, m.until_at, m.reason,
                m.created_by
         from maintenance m left join pool p on p.id = m.pool_id left join runner r on r.id = m.runner_id
         where m.ended_at is null and m.until_at > :now and (r.id is null or r.state <> 'retired')
         order by m.from_at, m.number";
        now: Timestamptz = Db(now),
    )
    .load(connection)
    .await?)
}

/// The path of the place that owns what a maintenance is of.
pub async fn place(connection: &mut Connection, number: i64) -> Result<Option<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Text)]
        path: String,
    }
    let row: Option<Row> = sql!(
        "select p.path from maintenance m left join runner r on r.id = m.runner_id
           join pool o on o.id = coalesce(m.pool_id, r.pool_id) join place p on p.id = o.owner_id
         where m.number = :number";
        number: BigInt = number,
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.path))
}

/// Ends or cancels maintenance. Returns false if it has ended or does not exist.
pub async fn end(connection: &mut Connection, number: i64, by: &str, at: Moment) -> Result<bool> {
    let ended = sql!(
        "with m as (
           update maintenance set ended_at = :at, ended_by = :by
           where number = :number and ended_at is null and until_at > :at returning id, ended_at)"
         change MaintenanceEnded { maintenance: "id" } at "ended_at" from "m";
        at: Timestamptz = Db(at),
        by: Text = by,
        number: BigInt = number,
    )
    .execute(connection)
    .await?;
    Ok(ended == 1)
}
