//! Machines: one thing that a supplier made, from its order to its end.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::{Db, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::capacity::MachineView;
use pennine_core::dispatch::Price;
use pennine_core::id::{MachineId, PoolId, RunnerId, Short, SupplierId};
use pennine_core::lifecycle::machine::{MachineEvent, MachineState};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Moment;

/// A machine.
#[derive(Clone, Debug, QueryableByName)]
pub struct Machine {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<MachineId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = SqlUuid)]
    pub supplier_id: Db<SupplierId>,
    #[diesel(sql_type = Text)]
    pub supplier: String,
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = BigInt)]
    pub runner_number: i64,
    #[diesel(sql_type = Bool)]
    pub runner_retired: bool,
    #[diesel(sql_type = Text)]
    pub state: Db<MachineState>,
    #[diesel(sql_type = Timestamptz)]
    pub state_since: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub state_why: String,
    #[diesel(sql_type = BigInt)]
    pub price: i64,
    #[diesel(sql_type = Bool)]
    pub single_use: bool,
    #[diesel(sql_type = Timestamptz)]
    pub ordered_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub ordered_by: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub accepted_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub joined_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub released_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
    #[diesel(sql_type = Bool)]
    pub failed: bool,
    #[diesel(sql_type = Text)]
    pub reference: String,
    #[diesel(sql_type = Text)]
    pub zone: String,
    #[diesel(sql_type = Text)]
    pub console: String,
}

impl Machine {
    /// The machine as the keeper sees it.
    pub fn view(&self) -> MachineView {
        MachineView {
            id: self.id.0,
            pool: self.pool_id.0,
            supplier: self.supplier_id.0,
            state: self.state.0,
            runner: self.runner_id.0,
            price: self.price(),
            ordered: self.ordered_at.0,
            single_use: self.single_use,
            ended: self.ended_at.map(|at| at.0),
        }
    }

    /// What an hour of it costs.
    pub fn price(&self) -> Price {
        Price(self.price.max(0).unsigned_abs())
    }

    /// Its short name.
    pub fn short(&self) -> String {
        Short::Machine.name(self.number)
    }
}

/// The columns of [`Machine`], of machines that the rest chooses.
macro_rules! machines {
    ($rest:literal) => {
        concat!(
            "select m.id, m.number, m.name, m.pool_id, p.name as pool, m.supplier_id, s.name as supplier, m.runner_id,
                    r.number as runner_number, r.state = 'retired' as runner_retired, m.state, m.state_since, m.state_why, m.price, m.single_use, m.ordered_at,
                    m.ordered_by, m.accepted_at, m.joined_at, m.released_at, m.ended_at, m.failed, m.reference, m.zone,
                    m.console
             from machine m join pool p on p.id = m.pool_id join supplier s on s.id = m.supplier_id
             join runner r on r.id = m.runner_id ",
            $rest
        )
    };
}

/// A machine to write down before its supplier is asked.
#[derive(Clone, Debug)]
pub struct NewMachine {
    pub id: MachineId,
    pub runner: RunnerId,
    pub pool: PoolId,
    pub supplier: SupplierId,
    pub price: Price,
    pub single_use: bool,
    /// The id of its ticket, and the hash of that's secret.
    pub ticket: uuid::Uuid,
    pub secret_hash: Vec<u8>,
    pub expires: Moment,
}

/// Writes orders down: the machines, the records of their runners, and a ticket for each of them alone.
pub async fn order(
    connection: &mut Connection,
    new: &[NewMachine],
    by: &str,
    why: &str,
    at: Moment,
) -> Result<Vec<Machine>> {
    if new.is_empty() {
        return Ok(Vec::new());
    }
    let ids: Vec<Db<MachineId>> = new.iter().map(|one| Db(one.id)).collect();
    statement(
        "with wanted as (
           select w.*, nextval('machine_number') as number
           from unnest($1, $2, $3, $4, $5, $6, $7, $8, $9)
             as w(id, runner, pool, supplier, price, single_use, ticket, secret, expires)),
         named as (
           select w.*, p.name || '-' || w.number as name, p.policy_version from wanted w join pool p on p.id = w.pool),
         r as (
           insert into runner (id, pool_id, name, state, state_since, state_why, slots, labels, facts, facts_version,
                               program, created_at, single_use)
           select runner, pool, name, $10, $11, 'its machine is ordered', 0, '{}', '{}', 0, '', $12, single_use from named
           returning id),
         t as (
           insert into ticket (id, number, pool_id, runner_id, secret_hash, created_at, created_by, expires_at, uses,
                               name_pattern, labels)
           select ticket, nextval('ticket_number'), pool, runner, secret, $13, $14, expires, 1, name, '{}' from named),
         m as (
           insert into machine (id, number, name, pool_id, supplier_id, runner_id, policy_version, state, state_since,
                                state_why, price, single_use, ordered_at, ordered_by)
           select id, number, name, pool, supplier, runner, policy_version, $15, $16, $17, price, single_use, $18, $19
           from named returning id, pool_id),
         o as (
           insert into outbox (at, kind, subject, body)
           select $20, 'machine.changed', id, jsonb_build_object('pool', pool_id, 'state', 'ordered') from m)
         insert into outbox (at, kind, subject, body) select $21, 'runner.awaited', id, '{\"machine\": true}' from r",
    )
    .bind::<Array<SqlUuid>, _>(&ids)
    .bind::<Array<SqlUuid>, _>(new.iter().map(|one| Db(one.runner)).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(new.iter().map(|one| Db(one.pool)).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(new.iter().map(|one| Db(one.supplier)).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(
        new.iter()
            .map(|one| i64::try_from(one.price.0).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
    )
    .bind::<Array<Bool>, _>(new.iter().map(|one| one.single_use).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(new.iter().map(|one| one.ticket).collect::<Vec<_>>())
    .bind::<Array<diesel::sql_types::Bytea>, _>(
        new.iter().map(|one| one.secret_hash.clone()).collect::<Vec<_>>(),
    )
    .bind::<Array<Timestamptz>, _>(new.iter().map(|one| Db(one.expires)).collect::<Vec<_>>())
    .bind::<Text, _>(Db(RunnerState::Awaited))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .bind::<Text, _>(Db(MachineState::Ordered))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(why)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    among(connection, &ids).await
}

/// The machines with these ids.
pub async fn among(connection: &mut Connection, ids: &[Db<MachineId>]) -> Result<Vec<Machine>> {
    Ok(
        statement(machines!("where m.id = any($1) order by m.number"))
            .bind::<Array<SqlUuid>, _>(ids)
            .load(connection)
            .await?,
    )
}

/// Those that exist, oldest first.
pub async fn existing(connection: &mut Connection) -> Result<Vec<Machine>> {
    Ok(statement(machines!("where m.there order by m.number"))
        .load(connection)
        .await?)
}

/// Machines, newest first: of a pool, in one state, or existing ones alone; those before a number.
pub async fn list(
    connection: &mut Connection,
    pool: Option<PoolId>,
    states: &[MachineState],
    before: i64,
    limit: i64,
) -> Result<Vec<Machine>> {
    Ok(statement(machines!(
        "where ($1::uuid is null or m.pool_id = $2) and m.state = any($3) and m.number < $4
         order by m.number desc limit $5"
    ))
    .bind::<Nullable<SqlUuid>, _>(pool.map(Db))
    .bind::<Nullable<SqlUuid>, _>(pool.map(Db))
    .bind::<Array<Text>, _>(words(states))
    .bind::<BigInt, _>(before)
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?)
}

/// The machine with this id, short number or, while it exists, name.
pub async fn find(connection: &mut Connection, text: &str) -> Result<Option<Machine>> {
    let id: Option<uuid::Uuid> = text.parse().ok();
    Ok(statement(machines!(
        "where m.id = $1 or m.number = $2 or m.name = $3 order by m.number desc limit 1"
    ))
    .bind::<Nullable<SqlUuid>, _>(id)
    .bind::<Nullable<BigInt>, _>(Short::Machine.number(text))
    .bind::<Text, _>(text)
    .get_result(connection)
    .await
    .optional()?)
}

/// What else is written with an event of a machine.
#[derive(Clone, Debug, Default)]
pub struct Detail {
    pub reference: Option<String>,
    pub zone: Option<String>,
    pub console: Option<String>,
}

/// Where an event leads; it is the same from every state that takes it.
fn leads_to(event: MachineEvent) -> (Vec<MachineState>, MachineState) {
    let from = MachineState::that_take(event);
    let to = from.first().and_then(|state| state.after(event).ok());
    (from, to.unwrap_or(MachineState::Gone))
}

/// Writes what has happened to a machine. Its runner's record goes with it when it is released or not there any more.
/// None when the event makes no sense any more.
pub async fn step(
    connection: &mut Connection,
    id: MachineId,
    event: MachineEvent,
    why: &str,
    detail: &Detail,
    at: Moment,
) -> Result<Option<Machine>> {
    let (from, to) = leads_to(event);
    let failed = matches!(
        event,
        MachineEvent::Refuse | MachineEvent::Vanish { failed: true }
    );
    let ends_runner = matches!(
        event,
        MachineEvent::Refuse | MachineEvent::Release | MachineEvent::Vanish { .. }
    );
    #[derive(QueryableByName)]
    struct Changed {
        #[diesel(sql_type = SqlUuid)]
        id: Db<MachineId>,
    }
    let changed: Option<Changed> = statement(
        "with m as (
           update machine set state = $1, state_since = $2,
             state_why = case when $3 = 'releasing' or state <> 'releasing' then $4 else state_why end,
             accepted_at = case when $5 = 'booting' then $6 else accepted_at end,
             joined_at   = case when $7 = 'joined' then $8 else joined_at end,
             released_at = case when $9 = 'releasing' then coalesce(released_at, $10) else released_at end,
             ended_at    = case when $11 in ('gone', 'failed') then $12 else ended_at end,
             failed      = failed or $13,
             reference   = coalesce($14, reference), zone = coalesce($15, zone), console = coalesce($16, console)
           where id = $17 and state = any($18) returning id, pool_id, runner_id, state, state_why),
         r as (
           update runner r set state = 'retired', state_since = $19, state_why = m.state_why
           from m where $20 and r.id = m.runner_id and r.state <> 'retired' returning r.id),
         ro as (
           insert into outbox (at, kind, subject, body) select $21, 'runner.retired', id, '{}' from r),
         mo as (
           insert into outbox (at, kind, subject, body)
           select $22, 'machine.changed', id, jsonb_build_object('pool', pool_id, 'state', state) from m)
         select id from m",
    )
    .bind::<Text, _>(Db(to))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(Db(to))
    .bind::<Text, _>(why)
    .bind::<Text, _>(Db(to))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(Db(to))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(Db(to))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(Db(to))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Bool, _>(failed)
    .bind::<Nullable<Text>, _>(detail.reference.clone())
    .bind::<Nullable<Text>, _>(detail.zone.clone())
    .bind::<Nullable<Text>, _>(detail.console.clone())
    .bind::<SqlUuid, _>(Db(id))
    .bind::<Array<Text>, _>(words(&from))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Bool, _>(ends_runner)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Timestamptz, _>(Db(at))
    .get_result(connection)
    .await
    .optional()?;
    match changed {
        None => Ok(None),
        Some(changed) => Ok(among(connection, &[changed.id]).await?.into_iter().next()),
    }
}

/// Notes that a machine that is being released never did what it was ordered for, and the end of what it printed.
pub async fn note_failure(
    connection: &mut Connection,
    id: MachineId,
    console: Option<String>,
) -> Result<()> {
    statement("update machine set failed = true, console = coalesce($1, console) where id = $2")
        .bind::<Nullable<Text>, _>(console)
        .bind::<SqlUuid, _>(Db(id))
        .execute(connection)
        .await?;
    Ok(())
}

/// The price, the order and the end of each machine of a pool that was there since a moment.
pub async fn lives(
    connection: &mut Connection,
    pool: PoolId,
    from: Moment,
) -> Result<Vec<(Price, Moment, Option<Moment>)>> {
    #[derive(QueryableByName)]
    struct Life {
        #[diesel(sql_type = BigInt)]
        price: i64,
        #[diesel(sql_type = Timestamptz)]
        ordered_at: Db<Moment>,
        #[diesel(sql_type = Nullable<Timestamptz>)]
        ended_at: Option<Db<Moment>>,
    }
    let lives: Vec<Life> = statement(
        "select price, ordered_at, ended_at from machine where pool_id = $1 and (there or ended_at > $2)",
    )
    .bind::<SqlUuid, _>(Db(pool))
    .bind::<Timestamptz, _>(Db(from))
    .load(connection)
    .await?;
    let life = |one: Life| {
        let price = Price(one.price.max(0).unsigned_abs());
        (price, one.ordered_at.0, one.ended_at.map(|at| at.0))
    };
    Ok(lives.into_iter().map(life).collect())
}

/// Notes where a machine is that had gone on before its supplier's answer was here.
pub async fn note_place(
    connection: &mut Connection,
    id: MachineId,
    detail: &Detail,
    at: Moment,
) -> Result<()> {
    statement(
        "update machine set reference = coalesce($1, reference), zone = coalesce($2, zone),
           accepted_at = coalesce(accepted_at, $3) where id = $4",
    )
    .bind::<Nullable<Text>, _>(detail.reference.clone())
    .bind::<Nullable<Text>, _>(detail.zone.clone())
    .bind::<Timestamptz, _>(Db(at))
    .bind::<SqlUuid, _>(Db(id))
    .execute(connection)
    .await?;
    Ok(())
}

/// What machines that ended since `from` cost: price times microseconds of their time in it, in whole.
pub async fn paid(connection: &mut Connection, pool: PoolId, from: Moment) -> Result<u128> {
    #[derive(QueryableByName)]
    struct Paid {
        #[diesel(sql_type = Text)]
        paid: String,
    }
    let row: Paid = statement(
        "select coalesce(sum(price * (extract(epoch from ended_at - greatest(ordered_at, $1)) * 1000000)::bigint::numeric), 0)::text
                as paid
         from machine where pool_id = $2 and ended_at > $3",
    )
    .bind::<Timestamptz, _>(Db(from))
    .bind::<SqlUuid, _>(Db(pool))
    .bind::<Timestamptz, _>(Db(from))
    .get_result(connection)
    .await?;
    Ok(row.paid.parse().unwrap_or(0))
}

/// Forgets machines that ended before a moment, and the records of their runners with which nothing was ever done.
pub async fn sweep(connection: &mut Connection, before: Moment, limit: i32) -> Result<usize> {
    Ok(statement(
        "delete from machine where id in (
           select id from machine where not there and ended_at < $1 limit $2)",
    )
    .bind::<Timestamptz, _>(Db(before))
    .bind::<Integer, _>(limit)
    .execute(connection)
    .await?)
}
