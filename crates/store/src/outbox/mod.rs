//! The change feed: what changed, numbered. See [`position`] for the order in which it is read.

pub mod position;

use crate::change::{Change, Undecodable};
use crate::connect::Connection;
use crate::error::{Error, Result};
use crate::schema::outbox;
use crate::statement::sql;
use crate::types::{Db, RawJson};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;
use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;
use std::time::Duration;
use uuid::Uuid;

pub use position::{Position, TransactionId};

/// One entry of the feed.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The place of the entry in the feed.
    pub cursor: Cursor,
    pub at: Moment,
    /// What changed, or why this version cannot read it.
    pub change: std::result::Result<Change, Undecodable>,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Timestamptz)]
    at: Db<Moment>,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = SqlUuid)]
    subject: Uuid,
    #[diesel(sql_type = Jsonb)]
    body: RawJson,
}

impl Row {
    fn decode(self) -> Entry {
        Entry {
            cursor: Cursor(self.id),
            at: self.at.0,
            change: Change::decode(&self.kind, self.subject, &self.body.0),
        }
    }
}

/// A place in the feed, by number. As a durable cursor: everything up to and including it was read.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Default)]
pub struct Cursor(pub i64);

impl fmt::Display for Cursor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl FromStr for Cursor {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let number = text.parse().ok().filter(|number| *number >= 0);
        number
            .map(Cursor)
            .ok_or_else(|| format!("{text:?} is not the number of a change"))
    }
}

/// Writes a change. Call it in the transaction that makes the change.
pub async fn write(connection: &mut Connection, at: Moment, change: &Change) -> Result<()> {
    let body = change
        .body()
        .map_err(|error| Error::Refused(format!("{} cannot be written: {error}", change.kind())))?;
    let row = (
        outbox::at.eq(Db(at)),
        outbox::kind.eq(change.kind()),
        outbox::subject.eq(change.subject()),
        outbox::body.eq(body),
    );
    diesel::insert_into(outbox::table)
        .values(row)
        .execute(connection)
        .await?;
    Ok(())
}

/// Reads at most `limit` entries that a live reader has not read, in order: entries above its position, and missed ones. The
/// position is moved by the caller.
pub async fn read_live(
    connection: &mut Connection,
    position: &Position,
    limit: i64,
) -> Result<Vec<Entry>> {
    let rows: Vec<Row> = sql!(
        // Two look-ups in the index: with `or`, all entries that there are would be read.
        "(select id, at, kind, subject, body from outbox where id > :high order by id limit :limit)
         union all
         select id, at, kind, subject, body from outbox where id = any(:missing)
         order by id limit :limit";
        high: BigInt = position.high(),
        missing: Array<BigInt> = position.missing(),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(Row::decode).collect())
}

/// The transactions that hold a lock for writing on the feed just now: the ones that may have drawn a number of it.
pub async fn writers(connection: &mut Connection) -> Result<BTreeSet<TransactionId>> {
    #[derive(QueryableByName)]
    struct Holder {
        #[diesel(sql_type = Text)]
        holder: String,
    }
    let rows: Vec<Holder> = sql!(
        "select distinct virtualtransaction as holder from pg_locks
         where locktype = 'relation' and relation = 'outbox'::regclass and granted and mode = 'RowExclusiveLock'
           and database = (select oid from pg_database where datname = current_database())"
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.holder).collect())
}

/// Where a live reader begins: after everything that is there, but for what may still come in between.
pub async fn beginning(connection: &mut Connection, now: Duration) -> Result<Position> {
    #[derive(QueryableByName)]
    struct Number {
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let rows: Vec<Number> = sql!(
        "select id from outbox order by id desc limit :recent";
        recent: BigInt = RECENT,
    )
    .load(connection)
    .await?;
    let recent: Vec<i64> = rows.into_iter().rev().map(|row| row.id).collect();
    Ok(Position::beginning(&recent, now))
}

/// The most changes that can be between the drawing of a number and the end of its transaction.
const RECENT: i64 = 10_000;

/// The database server behind a connection. A cursor of one means nothing to another.
#[derive(Clone, PartialEq, Eq, Debug, QueryableByName)]
pub struct DatabaseServer {
    /// The identifier of the cluster, which is new with each `initdb`.
    #[diesel(sql_type = BigInt)]
    system: i64,
    /// The timeline, which is new with each promotion of a standby and each recovery to an earlier moment.
    #[diesel(sql_type = Text)]
    timeline: String,
}

/// Which server this is.
pub async fn server(connection: &mut Connection) -> Result<DatabaseServer> {
    Ok(sql!(
        "select system_identifier as system, substr(pg_walfile_name(pg_current_wal_lsn()), 1, 8) as timeline
         from pg_control_system()"
    )
    .get_result(connection)
    .await?)
}

/// Reads at most `limit` entries after a durable cursor, in order, as far as `until`: the low mark of a live reader.
pub async fn read_after(
    connection: &mut Connection,
    cursor: Cursor,
    until: Cursor,
    limit: i64,
) -> Result<Vec<Entry>> {
    let rows: Vec<Row> = sql!(
        "select id, at, kind, subject, body from outbox where id > :id and id <= :until order by id limit :limit";
        id: BigInt = cursor.0,
        until: BigInt = until.0,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(Row::decode).collect())
}

/// As [`read_after`], only the entries that are delivered to listeners.
pub async fn alerts_after(
    connection: &mut Connection,
    cursor: Cursor,
    until: Cursor,
    limit: i64,
) -> Result<Vec<Entry>> {
    // The kinds are those of the index.
    let rows: Vec<Row> = sql!(
        "select id, at, kind, subject, body from outbox
         where kind in ('alert.raised', 'alert.ended') and id > :id and id <= :until order by id limit :limit";
        id: BigInt = cursor.0,
        until: BigInt = until.0,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(Row::decode).collect())
}

/// Returns everything recorded of one subject, oldest first.
pub async fn of_subject(connection: &mut Connection, subject: Uuid) -> Result<Vec<Entry>> {
    let rows: Vec<Row> = sql!(
        "select id, at, kind, subject, body from outbox where subject = :subject order by id";
        subject: SqlUuid = subject,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(Row::decode).collect())
}

/// PostgreSQL's time, and the time of the last change if it is later: the service's clock starts here.
pub async fn moment(connection: &mut Connection) -> Result<Moment> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    // The one place, beside the leadership row, that asks PostgreSQL for the time.
    let row: Row = sql!(
        "select greatest(clock_timestamp(), (select at from outbox order by id desc limit 1)) as at"
    )
    .get_result(connection)
    .await?;
    Ok(row.at.0)
}
