//! Tickets. Each is for one runner, whose record is made with it, `awaited`.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::Db;
use diesel::sql_types::{BigInt, Bytea, Nullable, Text, Timestamptz, Uuid as SqlUuid};
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
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = BigInt)]
    pub runner_number: i64,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub used_at: Option<Db<Moment>>,
}

/// What to make a ticket from.
pub struct NewTicket<'a> {
    pub id: TicketId,
    pub pool: PoolId,
    pub runner: RunnerId,
    pub secret_hash: &'a [u8],
    pub by: &'a str,
    pub at: Moment,
    pub expires_at: Moment,
}

/// Makes a ticket and the record of the runner that it is for.
pub async fn insert(connection: &mut Connection, new: NewTicket<'_>) -> Result<Ticket> {
    Ok(statement(
        "with r as (
           insert into runner (id, pool_id, name, state, state_since, state_why, slots, labels, facts, facts_version,
                               program, created_at)
           select $1, $2, 'awaited-' || nextval('ticket_number'), $3, $4, 'its ticket is made; no machine has used it yet',
                  0, '{}', '{}', 0, '', $5
           returning id, number, pool_id, name),
         t as (
           insert into ticket (id, number, pool_id, runner_id, secret_hash, created_at, created_by, expires_at)
           select $6, substring(r.name from 9)::bigint, r.pool_id, r.id, $7, $8, $9, $10 from r returning *),
         o as (
           insert into outbox (at, kind, subject, body)
           select t.created_at, 'runner.awaited', t.runner_id, jsonb_build_object('ticket', t.id) from t)
         select t.id, t.number, t.pool_id, p.name as pool, t.runner_id, r.number as runner_number, t.created_at,
                t.expires_at, t.used_at
         from t join r on r.id = t.runner_id join pool p on p.id = t.pool_id",
    )
    .bind::<SqlUuid, _>(Db(new.runner))
    .bind::<SqlUuid, _>(Db(new.pool))
    .bind::<Text, _>(Db(RunnerState::Awaited))
    .bind::<Timestamptz, _>(Db(new.at))
    .bind::<Timestamptz, _>(Db(new.at))
    .bind::<SqlUuid, _>(Db(new.id))
    .bind::<Bytea, _>(new.secret_hash)
    .bind::<Timestamptz, _>(Db(new.at))
    .bind::<Text, _>(new.by)
    .bind::<Timestamptz, _>(Db(new.expires_at))
    .get_result(connection)
    .await?)
}

/// The tickets, newest first.
pub async fn list(connection: &mut Connection, limit: i64) -> Result<Vec<Ticket>> {
    Ok(statement(
        "select t.id, t.number, t.pool_id, p.name as pool, t.runner_id, r.number as runner_number, t.created_at,
                t.expires_at, t.used_at
         from ticket t join pool p on p.id = t.pool_id join runner r on r.id = t.runner_id
         order by t.number desc limit $1",
    )
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?)
}

/// The ticket with this secret, locked until the transaction ends.
pub async fn by_secret(connection: &mut Connection, hash: &[u8]) -> Result<Option<Ticket>> {
    Ok(statement(
        "select t.id, t.number, t.pool_id, p.name as pool, t.runner_id, r.number as runner_number, t.created_at,
                t.expires_at, t.used_at
         from ticket t join pool p on p.id = t.pool_id join runner r on r.id = t.runner_id
         where t.secret_hash = $1 for update of t",
    )
    .bind::<Bytea, _>(hash)
    .get_result(connection)
    .await
    .optional()?)
}

/// Marks a ticket as used.
pub async fn mark_used(connection: &mut Connection, id: TicketId, at: Moment) -> Result<()> {
    statement("update ticket set used_at = $1 where id = $2")
        .bind::<Timestamptz, _>(Db(at))
        .bind::<SqlUuid, _>(Db(id))
        .execute(connection)
        .await?;
    Ok(())
}

/// Retires the records of runners whose ticket expired unused.
pub async fn sweep(connection: &mut Connection, now: Moment) -> Result<usize> {
    Ok(statement(
        "with over as (
           update runner r set state = $1, state_since = $2, state_why = 'its ticket expired before a machine used it'
           from ticket t where t.runner_id = r.id and r.state = $3 and t.used_at is null and t.expires_at <= $4
           returning r.id)
         insert into outbox (at, kind, subject, body) select $5, 'runner.retired', id, '{}' from over",
    )
    .bind::<Text, _>(Db(RunnerState::Retired))
    .bind::<Timestamptz, _>(Db(now))
    .bind::<Text, _>(Db(RunnerState::Awaited))
    .bind::<Timestamptz, _>(Db(now))
    .bind::<Timestamptz, _>(Db(now))
    .execute(connection)
    .await?)
}
