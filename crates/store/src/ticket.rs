//! Tickets. One for a single machine has its runner's record from the start, `awaited`; one for several makes a record for
//! each machine that joins.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{
    Array, BigInt, Bytea, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{PoolId, RunnerId, TicketId};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Moment;

/// A ticket.
#[derive(Clone, Debug, QueryableByName)]
pub struct Ticket {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<TicketId>,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    /// The runner that it is for; none when it is for several.
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub runner_id: Option<Db<RunnerId>>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub runner_number: Option<i64>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: Db<Moment>,
    /// When a machine last joined with it.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub used_at: Option<Db<Moment>>,
    /// How many machines may join with it, and how many have.
    #[diesel(sql_type = Integer)]
    pub uses: i32,
    #[diesel(sql_type = Integer)]
    pub used: i32,
    #[diesel(sql_type = Text)]
    pub name_pattern: String,
    #[diesel(sql_type = Array<Text>)]
    pub labels: Vec<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub revoked_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub revoked_by: Option<String>,
}

/// What to make a ticket from.
pub struct NewTicket<'a> {
    pub id: TicketId,
    pub pool: PoolId,
    /// The record that is made with a ticket for one machine.
    pub runner: RunnerId,
    pub secret_hash: &'a [u8],
    pub by: &'a str,
    pub at: Moment,
    pub expires_at: Moment,
    pub uses: i32,
    pub name_pattern: &'a str,
    pub labels: &'a [String],
}

/// The columns of [`Ticket`], of tickets that `$from` names `t`.
macro_rules! ticket_query {
    ($before:literal, $from:literal, $rest:literal) => {
        concat!(
            $before,
            " select t.id, t.number, t.pool_id, p.name as pool, t.runner_id, r.number as runner_number, t.created_at,
                     t.created_by, t.expires_at, t.used_at, t.uses, t.used, t.name_pattern, t.labels, t.revoked_at,
                     t.revoked_by
              from ",
            $from,
            " t join pool p on p.id = t.pool_id left join runner r on r.id = t.runner_id ",
            $rest
        )
    };
}

/// Makes a ticket, and the record of the runner that it is for when it is for one.
pub async fn insert(connection: &mut Connection, new: NewTicket<'_>) -> Result<TicketId> {
    let single = new.uses == 1;
    sql!(
        "with n as (select nextval('ticket_number') as number),
         r as (
           insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version,
                               program, created_at)
           select :runner, :pool, 'awaited-' || number, :awaited, :at, 'its ticket is made; no machine has used it yet',
                  0, '{}', '{}', 0, '', :at
           from n where :single
           returning id, number, pool_id, name),
         t as (
           insert into ticket (id, number, pool_id, runner_id, secret_hash, created_at, created_by, expires_at, uses,
                               name_pattern, labels)
           select :id, n.number, :pool, r.id, :secret_hash, :at, :by, :expires_at, :uses, :name_pattern, :labels
           from n left join r on true returning *)"
         change RunnerAwaited { runner: "t.runner_id" } at "t.created_at" from "t where t.runner_id is not null";
        runner: SqlUuid = Db(new.runner),
        pool: SqlUuid = Db(new.pool),
        awaited: Text = Db(RunnerState::Awaited),
        at: Timestamptz = Db(new.at),
        single: diesel::sql_types::Bool = single,
        id: SqlUuid = Db(new.id),
        secret_hash: Bytea = new.secret_hash,
        by: Text = new.by,
        expires_at: Timestamptz = Db(new.expires_at),
        uses: Integer = new.uses,
        name_pattern: Text = new.name_pattern,
        labels: Array<Text> = new.labels,
    )
    .execute(connection)
    .await?;
    Ok(new.id)
}

/// The tickets of pools whose owners are at or below these places, or of all pools; newest first.
pub async fn list(
    connection: &mut Connection,
    visible: Option<&[String]>,
    limit: i64,
) -> Result<Vec<Ticket>> {
    Ok(sql!(
        ticket_query!(
        "",
        "ticket",
        "where :visible::text[] is null
           or p.owner_id in (select id from place where is_below_any(path, :visible))
         order by t.number desc limit :limit"
    );
        visible: Nullable<Array<Text>> = visible,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// The ticket with this id or short number.
pub async fn find(
    connection: &mut Connection,
    id: Option<uuid::Uuid>,
    number: Option<i64>,
) -> Result<Option<Ticket>> {
    Ok(sql!(
        ticket_query!(
        "",
        "ticket",
        "where t.id = :id or t.number = :number"
    );
        id: Nullable<SqlUuid> = id,
        number: Nullable<BigInt> = number,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// The ticket with this secret, locked until the transaction ends.
pub async fn by_secret(connection: &mut Connection, hash: &[u8]) -> Result<Option<Ticket>> {
    Ok(sql!(
        ticket_query!(
        "",
        "ticket",
        "where t.secret_hash = :hash for update of t"
    );
        hash: Bytea = hash,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Makes the record of one more machine of a ticket for several.
pub async fn await_one(
    connection: &mut Connection,
    ticket: &Ticket,
    runner: RunnerId,
    at: Moment,
) -> Result<()> {
    sql!(
        "insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version,
                             program, created_at)
         values (:runner, :pool_id, :name, :awaited, :at, 'it is joining', 0, '{}', '{}', 0, '', :at)";
        runner: SqlUuid = Db(runner),
        pool_id: SqlUuid = ticket.pool_id,
        name: Text = format!("awaited-{}-{}", ticket.number, ticket.used + 1),
        awaited: Text = Db(RunnerState::Awaited),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Counts one more use of a ticket.
pub async fn mark_used(connection: &mut Connection, id: TicketId, at: Moment) -> Result<()> {
    sql!(
        "update ticket set used_at = :at, used = used + 1 where id = :id";
        at: Timestamptz = Db(at),
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Makes a ticket worth nothing from now on. False when it was used up or revoked already.
pub async fn revoke(
    connection: &mut Connection,
    id: TicketId,
    by: &str,
    at: Moment,
) -> Result<bool> {
    let revoked = sql!(
        "update ticket set revoked_at = :at, revoked_by = :by where id = :id and revoked_at is null and used < uses";
        at: Timestamptz = Db(at),
        by: Text = by,
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
    Ok(revoked == 1)
}

/// Retires the records of runners whose ticket ended before a machine used it, and of the ones that joined before
/// `unfinished` and never connected.
pub async fn sweep(connection: &mut Connection, now: Moment, unfinished: Moment) -> Result<usize> {
    Ok(sql!(
        "with ended as (
           select r.id, case when t.revoked_at is null then 'its ticket expired before a machine used it'
                             else 'its ticket was revoked by ' || t.revoked_by end as reason
           from ticket t join runner r on r.id = t.runner_id
           where r.state = :awaited and t.used = 0 and (t.expires_at <= :now or t.revoked_at is not null)
           union all
           select r.id, 'it joined and never connected' from runner r
           where r.state = :offline and r.state_since <= :unfinished and not exists (select from runner_presence s where s.runner_id = r.id)),
         over as (
           update runner r set state = :retired, state_since = :now, state_reason = ended.reason
           from ended where r.id = ended.id returning r.id)"
         change RunnerRetired { runner: "id", reason: "null" } at ":now" from "over";
        awaited: Text = Db(RunnerState::Awaited),
        now: Timestamptz = Db(now),
        offline: Text = Db(RunnerState::Offline),
        unfinished: Timestamptz = Db(unfinished),
        retired: Text = Db(RunnerState::Retired),
    )
    .execute(connection)
    .await?)
}
