//! Machines: one thing that a supplier made, from its order to its end.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, words};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::capacity::MachineView;
use pennine_core::dispatch::Price;
use pennine_core::id::{MachineId, PoolId, RunnerId, ShortName, SupplierId};
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
    pub state_reason: String,
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
        ShortName::Machine.name(self.number)
    }
}

/// The columns of [`Machine`], of machines that the rest chooses.
macro_rules! machines {
    ($rest:literal) => {
        concat!(
            "select m.id, m.number, m.name, m.pool_id, p.name as pool, m.supplier_id, s.name as supplier, m.runner_id,
                    r.number as runner_number, r.state = 'retired' as runner_retired, m.state, m.state_since, m.state_reason, m.price, m.single_use, m.ordered_at,
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
    reason: &str,
    at: Moment,
) -> Result<Vec<Machine>> {
    if new.is_empty() {
        return Ok(Vec::new());
    }
    let ids: Vec<Db<MachineId>> = new.iter().map(|one| Db(one.id)).collect();
    sql!(
        "with wanted as (
           select w.*, nextval('machine_number') as number
           from unnest(:ids, :runners, :pools, :suppliers, :prices, :single_use, :tickets, :secret_hashes, :expiries)
             as w(id, runner, pool, supplier, price, single_use, ticket, secret, expires)),
         named as (
           select w.*, p.name || '-' || w.number as name, p.policy_version from wanted w join pool p on p.id = w.pool),
         r as (
           insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version,
                               program, created_at, single_use)
           select runner, pool, name, :awaited, :at, 'its machine is ordered', 0, '{}', '{}', 0, '', :at, single_use from named
           returning id),
         t as (
           insert into ticket (id, number, pool_id, runner_id, secret_hash, created_at, created_by, expires_at, uses,
                               name_pattern, labels)
           select ticket, nextval('ticket_number'), pool, runner, secret, :at, :by, expires, 1, name, '{}' from named),
         m as (
           insert into machine (id, number, name, pool_id, supplier_id, runner_id, policy_version, state, state_since,
                                state_reason, price, single_use, ordered_at, ordered_by)
           select id, number, name, pool, supplier, runner, policy_version, :ordered, :at, :reason, price, single_use, :at, :by
           from named returning id, pool_id),
         o as ("
           change MachineChanged { machine: "id", pool: "pool_id", state: "'ordered'" } at ":at" from "m"
           ")"
         change RunnerAwaited { runner: "id" } at ":at" from "r";
        ids: Array<SqlUuid> = &ids,
        runners: Array<SqlUuid> = new.iter().map(|one| Db(one.runner)).collect::<Vec<_>>(),
        pools: Array<SqlUuid> = new.iter().map(|one| Db(one.pool)).collect::<Vec<_>>(),
        suppliers: Array<SqlUuid> = new.iter().map(|one| Db(one.supplier)).collect::<Vec<_>>(),
        prices: Array<BigInt> = new.iter()
            .map(|one| i64::try_from(one.price.0).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
        single_use: Array<Bool> = new.iter().map(|one| one.single_use).collect::<Vec<_>>(),
        tickets: Array<SqlUuid> = new.iter().map(|one| one.ticket).collect::<Vec<_>>(),
        secret_hashes: Array<diesel::sql_types::Bytea> = new.iter().map(|one| one.secret_hash.clone()).collect::<Vec<_>>(),
        expiries: Array<Timestamptz> = new.iter().map(|one| Db(one.expires)).collect::<Vec<_>>(),
        awaited: Text = Db(RunnerState::Awaited),
        at: Timestamptz = Db(at),
        by: Text = by,
        ordered: Text = Db(MachineState::Ordered),
        reason: Text = reason,
    )
    .execute(connection)
    .await?;
    among(connection, &ids).await
}

/// The machines with these ids.
pub async fn among(connection: &mut Connection, ids: &[Db<MachineId>]) -> Result<Vec<Machine>> {
    Ok(sql!(
        machines!("where m.id = any(:ids) order by m.number");
        ids: Array<SqlUuid> = ids,
    )
    .load(connection)
    .await?)
}

/// Returns the existing machines, oldest first.
pub async fn existing(connection: &mut Connection) -> Result<Vec<Machine>> {
    Ok(sql!(machines!("where m.active order by m.number"))
        .load(connection)
        .await?)
}

/// Which machines.
#[derive(Clone, Copy, Debug)]
pub struct MachineFilter<'a> {
    /// Of this pool alone.
    pub pool: Option<PoolId>,
    /// In one of these states.
    pub states: &'a [MachineState],
    /// Of pools whose owners are at or below these places; of all pools where none are given.
    pub visible: Option<&'a [String]>,
    /// Those with a lower number than this.
    pub before: i64,
}

/// Machines, newest first: of a pool, in one state, or existing ones alone; those before a number.
pub async fn list(
    connection: &mut Connection,
    filter: MachineFilter<'_>,
    limit: i64,
) -> Result<Vec<Machine>> {
    Ok(sql!(
        machines!(
        "where (:pool::uuid is null or m.pool_id = :pool) and m.state = any(:states) and m.number < :before
           and (:visible::text[] is null or m.pool_id in (
               select o.id from pool o join place q on q.id = o.owner_id where is_below_any(q.path, :visible)))
         order by m.number desc limit :limit"
    );
        pool: Nullable<SqlUuid> = filter.pool.map(Db),
        states: Array<Text> = words(filter.states),
        visible: Nullable<Array<Text>> = filter.visible,
        before: BigInt = filter.before,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// The machine with this id, short number or, while it exists, name.
pub async fn find(connection: &mut Connection, text: &str) -> Result<Option<Machine>> {
    let id: Option<uuid::Uuid> = text.parse().ok();
    Ok(sql!(
        machines!(
        "where m.id = :id or m.number = :number or m.name = :text order by m.number desc limit 1"
    );
        id: Nullable<SqlUuid> = id,
        number: Nullable<BigInt> = ShortName::Machine.number(text),
        text: Text = text,
    )
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
fn target_state(event: MachineEvent) -> (Vec<MachineState>, MachineState) {
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
    reason: &str,
    detail: &Detail,
    at: Moment,
) -> Result<Option<Machine>> {
    let (from, to) = target_state(event);
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
    let changed: Option<Changed> = sql!(
        "with m as (
           update machine set state = :to, state_since = :at,
             state_reason = case when :to = 'releasing' or state <> 'releasing' then :reason else state_reason end,
             accepted_at = case when :to = 'booting' then :at else accepted_at end,
             joined_at   = case when :to = 'joined' then :at else joined_at end,
             released_at = case when :to = 'releasing' then coalesce(released_at, :at) else released_at end,
             ended_at    = case when :to in ('gone', 'failed') then :at else ended_at end,
             failed      = failed or :failed,
             reference   = coalesce(:reference, reference), zone = coalesce(:zone, zone), console = coalesce(:console, console)
           where id = :id and state = any(:states) returning id, pool_id, runner_id, state, state_reason),
         r as (
           update runner r set state = 'retired', state_since = :at, state_reason = m.state_reason
           from m where :ends_runner and r.id = m.runner_id and r.state <> 'retired' returning r.id),
         ro as ("
           change RunnerRetired { runner: "id", reason: "null" } at ":at" from "r"
           "),
         mo as ("
           change MachineChanged { machine: "id", pool: "pool_id", state: "state" } at ":at" from "m"
           ")
         select id from m";
        to: Text = Db(to),
        at: Timestamptz = Db(at),
        reason: Text = reason,
        failed: Bool = failed,
        reference: Nullable<Text> = detail.reference.clone(),
        zone: Nullable<Text> = detail.zone.clone(),
        console: Nullable<Text> = detail.console.clone(),
        id: SqlUuid = Db(id),
        states: Array<Text> = words(&from),
        ends_runner: Bool = ends_runner,
    )
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
    sql!(
        "update machine set failed = true, console = coalesce(:console, console) where id = :id";
        console: Nullable<Text> = console,
        id: SqlUuid = Db(id),
    )
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
    let lives: Vec<Life> = sql!(
        "select price, ordered_at, ended_at from machine where pool_id = :pool and (active or ended_at > :from)";
        pool: SqlUuid = Db(pool),
        from: Timestamptz = Db(from),
    )
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
    sql!(
        "update machine set reference = coalesce(:reference, reference), zone = coalesce(:zone, zone),
           accepted_at = coalesce(accepted_at, :at) where id = :id";
        reference: Nullable<Text> = detail.reference.clone(),
        zone: Nullable<Text> = detail.zone.clone(),
        at: Timestamptz = Db(at),
        id: SqlUuid = Db(id),
    )
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
    let row: Paid = sql!(
        "select coalesce(sum(price * (extract(epoch from ended_at - greatest(ordered_at, :from)) * 1000000)::bigint::numeric), 0)::text
                as paid
         from machine where pool_id = :pool and ended_at > :from";
        from: Timestamptz = Db(from),
        pool: SqlUuid = Db(pool),
    )
    .get_result(connection)
    .await?;
    Ok(row.paid.parse().unwrap_or(0))
}

/// Forgets machines that ended before a moment, and the records of their runners with which nothing was ever done.
pub async fn sweep(connection: &mut Connection, before: Moment, limit: i32) -> Result<usize> {
    Ok(sql!(
        "delete from machine where id in (
           select id from machine where not active and ended_at < :before limit :limit)";
        before: Timestamptz = Db(before),
        limit: Integer = limit,
    )
    .execute(connection)
    .await?)
}
