//! Seals of the audit log: each covers the entries from one number to another, and the seal before it.
//!
//! Entries are committed without a seal, in any order; a lock on the end of a chain would let one transaction write at a time.
//! The leader seals them afterwards, in the order of their numbers, as far as no number below can still come (see
//! [`crate::outbox::position`]).

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox::position::{Position, TransactionId};
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::OptionalExtension;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bytea, Integer, Jsonb, Nullable, Text, Timestamptz};
use pennine_core::time::Moment;
use std::collections::BTreeSet;
use std::time::Duration;

/// Numbers from the first to the second, both included.
pub type NumberRange = (i64, i64);

/// A seal.
#[derive(Clone, Debug, QueryableByName)]
pub struct Seal {
    /// The first number that it covers: the one after the seal before it.
    #[diesel(sql_type = BigInt)]
    pub first_id: i64,
    #[diesel(sql_type = BigInt)]
    pub last_id: i64,
    /// The numbers in between that no entry has: their transactions were rolled back.
    #[diesel(sql_type = Jsonb)]
    pub missing: Json<Vec<NumberRange>>,
    #[diesel(sql_type = Integer)]
    pub entries: i32,
    /// The times of its earliest and its latest entry, which are of one month.
    #[diesel(sql_type = Timestamptz)]
    pub earliest: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub latest: Db<Moment>,
    #[diesel(sql_type = Bytea)]
    pub hash: Vec<u8>,
    #[diesel(sql_type = Bytea)]
    pub signature: Vec<u8>,
    #[diesel(sql_type = Timestamptz)]
    pub sealed_at: Db<Moment>,
}

/// The columns of a [`Seal`].
macro_rules! seal_columns {
    () => {
        "first_id, last_id, missing, entries, earliest, latest, hash, signature, sealed_at"
    };
}

/// An entry as it is sealed.
#[derive(Clone, Debug, QueryableByName)]
pub struct SealedEntry {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub who: String,
    #[diesel(sql_type = Text)]
    pub who_kind: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub address: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub request: Option<String>,
    #[diesel(sql_type = Text)]
    pub place: String,
    #[diesel(sql_type = Text)]
    pub what: String,
    #[diesel(sql_type = Text)]
    pub subject: String,
    /// As PostgreSQL writes `jsonb`: with its keys in order.
    #[diesel(sql_type = Text)]
    pub detail: String,
}

/// The latest seal.
pub async fn last(connection: &mut Connection) -> Result<Option<Seal>> {
    Ok(
        sql!("select " seal_columns!() " from audit_seal order by last_id desc limit 1")
            .get_result(connection)
            .await
            .optional()?,
    )
}

/// The seals after a number, in order.
pub async fn after(connection: &mut Connection, id: i64, limit: i64) -> Result<Vec<Seal>> {
    Ok(sql!(
        "select " seal_columns!() " from audit_seal where last_id > :id order by last_id limit :limit";
        id: BigInt = id,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Where the sealing begins: after the latest seal.
pub fn beginning(last: Option<&Seal>) -> Position {
    match last {
        Some(seal) => Position::beginning(&[seal.last_id], Duration::ZERO),
        None => Position::default(),
    }
}

/// The numbers of entries that are above a position, or missed by it, in order, up to a limit.
pub async fn numbers(
    connection: &mut Connection,
    position: &Position,
    limit: i64,
) -> Result<Vec<i64>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let rows: Vec<Row> = sql!(
        "select id from (select id from audit where id = any(:missing)
                         union all (select id from audit where id > :high order by id limit :limit)) found
         order by id limit :limit";
        missing: Array<BigInt> = position.missing(),
        high: BigInt = position.high(),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// The transactions that hold a lock for writing on the audit log and may have drawn a number.
pub async fn writers(connection: &mut Connection) -> Result<BTreeSet<TransactionId>> {
    #[derive(QueryableByName)]
    struct Holder {
        #[diesel(sql_type = Text)]
        holder: String,
    }
    let rows: Vec<Holder> = sql!(
        "select distinct virtualtransaction as holder from pg_locks
         where locktype = 'relation' and relation = 'audit'::regclass and granted and mode = 'RowExclusiveLock'
           and database = (select oid from pg_database where datname = current_database())"
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.holder).collect())
}

/// The entries from one number to another, both included, in order, up to a limit.
pub async fn entries(
    connection: &mut Connection,
    (first, last): NumberRange,
    limit: i64,
) -> Result<Vec<SealedEntry>> {
    Ok(sql!(
        "select id, at, who, who_kind, address, request, place, what, subject, detail::text as detail
         from audit where id between :first and :last order by id limit :limit";
        first: BigInt = first,
        last: BigInt = last,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Stores a seal. False where these entries are sealed already: another replica leads.
pub async fn insert(connection: &mut Connection, seal: &Seal) -> Result<bool> {
    let inserted = sql!(
        "insert into audit_seal (first_id, last_id, missing, entries, earliest, latest, hash, signature, sealed_at)
         values (:first, :last, :missing, :entries, :earliest, :latest, :hash, :signature, :sealed_at)
         on conflict do nothing";
        first: BigInt = seal.first_id,
        last: BigInt = seal.last_id,
        missing: Jsonb = seal.missing.clone(),
        entries: Integer = seal.entries,
        earliest: Timestamptz = seal.earliest,
        latest: Timestamptz = seal.latest,
        hash: Bytea = seal.hash.as_slice(),
        signature: Bytea = seal.signature.as_slice(),
        sealed_at: Timestamptz = seal.sealed_at,
    )
    .execute(connection)
    .await?;
    Ok(inserted == 1)
}

/// The time from which on all entries are kept: the beginning of the oldest month that is there.
pub async fn kept_since(connection: &mut Connection) -> Result<Option<Moment>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Nullable<Timestamptz>)]
        since: Option<Db<Moment>>,
    }
    let row: Row = sql!(
        "select min(to_date(right(c.relname, 7), 'YYYY_MM'))::timestamp at time zone 'UTC' as since
         from pg_inherits i join pg_class c on c.oid = i.inhrelid
         where i.inhparent = 'audit'::regclass and c.relname ~ '^audit_[0-9]{4}_[0-9]{2}$'"
    )
    .get_result(connection)
    .await?;
    Ok(row.since.map(|at| at.0))
}
