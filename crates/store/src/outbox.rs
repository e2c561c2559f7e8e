//! The change feed: what changed, in an order in which no row can appear before a place already read.
//!
//! A serial number alone is not such an order: a transaction may take number 7, another take and commit 8, and a
//! reader that has seen 8 would never see 7. So the order is (transaction id, number), and only rows of transactions
//! below the snapshot's xmin are read: nothing at or below them can still commit.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::outbox;
use crate::statement::{Statement, statement};
use crate::types::Db;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;
use std::fmt;
use std::str::FromStr;
use uuid::Uuid;

/// One change.
#[derive(Clone, Debug, QueryableByName)]
pub struct Change {
    #[diesel(sql_type = BigInt)]
    pub txid: i64,
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub at: Db<Moment>,
    /// Noun and verb: `job.pending`.
    #[diesel(sql_type = Text)]
    pub kind: String,
    /// The id of what changed.
    #[diesel(sql_type = SqlUuid)]
    pub subject: Uuid,
    #[diesel(sql_type = Jsonb)]
    pub body: serde_json::Value,
}

impl Change {
    /// The place of this change in the feed.
    pub fn cursor(&self) -> Cursor {
        Cursor {
            txid: self.txid,
            id: self.id,
        }
    }
}

/// A place in the feed: everything up to and including it was read.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Default)]
pub struct Cursor {
    txid: i64,
    id: i64,
}

impl Cursor {
    /// The place of a change with this transaction and number.
    pub fn at(txid: i64, id: i64) -> Cursor {
        Cursor { txid, id }
    }

    /// Its transaction.
    pub fn transaction(self) -> i64 {
        self.txid
    }

    /// Its number.
    pub fn number(self) -> i64 {
        self.id
    }
}

impl fmt::Display for Cursor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.txid, self.id)
    }
}

impl FromStr for Cursor {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let (txid, id) = text
            .split_once('-')
            .ok_or("a cursor is two numbers joined by -")?;
        let number = |part: &str| part.parse().map_err(|_| format!("{part:?} is no number"));
        Ok(Cursor {
            txid: number(txid)?,
            id: number(id)?,
        })
    }
}

/// Writes a change. Call it in the transaction that makes the change.
pub async fn write(
    connection: &mut Connection,
    at: Moment,
    kind: &str,
    subject: impl Into<Uuid>,
    body: serde_json::Value,
) -> Result<()> {
    let row = (
        outbox::at.eq(Db(at)),
        outbox::kind.eq(kind),
        outbox::subject.eq(subject.into()),
        outbox::body.eq(body),
    );
    diesel::insert_into(outbox::table)
        .values(row)
        .execute(connection)
        .await?;
    Ok(())
}

/// What a reading of the feed found.
#[derive(Debug, Default)]
pub struct Read {
    /// The changes after the cursor that are safe to pass, in order.
    pub changes: Vec<Change>,
    /// Whether more is committed already, but not safe to pass yet: an older transaction is still open. It will be in
    /// a moment, and nothing will say so.
    pub held_up: bool,
}

/// Reads on from a place in the feed.
pub async fn read_after(connection: &mut Connection, cursor: Cursor, limit: i64) -> Result<Read> {
    let asked = statement(
        "select id, txid, at, kind, subject, body,
                txid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint as safe
         from outbox where (txid, id) > ($1, $2) order by txid, id limit $3",
    );
    read(connection, asked, cursor, limit).await
}

/// The same without the changes' bodies, for who wants to know of many what happened to what.
pub async fn read_bare_after(
    connection: &mut Connection,
    cursor: Cursor,
    limit: i64,
) -> Result<Read> {
    let asked = statement(
        "select id, txid, at, kind, subject, 'null'::jsonb as body,
                txid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint as safe
         from outbox where (txid, id) > ($1, $2) order by txid, id limit $3",
    );
    read(connection, asked, cursor, limit).await
}

async fn read(
    connection: &mut Connection,
    asked: Statement<'_>,
    cursor: Cursor,
    limit: i64,
) -> Result<Read> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(embed)]
        change: Change,
        #[diesel(sql_type = Bool)]
        safe: bool,
    }
    let rows: Vec<Row> = asked
        .bind::<BigInt, _>(cursor.txid)
        .bind::<BigInt, _>(cursor.id)
        .bind::<BigInt, _>(limit)
        .load(connection)
        .await?;
    // Rows come by transaction, so what is not safe comes last.
    let held_up = rows.iter().any(|row| !row.safe);
    let changes = rows
        .into_iter()
        .take_while(|row| row.safe)
        .map(|row| row.change)
        .collect();
    Ok(Read { changes, held_up })
}

/// Of the changes after a place in the feed, those that listeners are sent, as far as they are safe to pass; in order, at
/// most so many.
pub async fn told_after(
    connection: &mut Connection,
    cursor: Cursor,
    limit: i64,
) -> Result<Vec<Change>> {
    // The kinds are those of the index.
    Ok(statement(
        "select id, txid, at, kind, subject, body from outbox
         where kind in ('alert.raised', 'alert.ended') and (txid, id) > ($1, $2)
           and txid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint
         order by txid, id limit $3",
    )
    .bind::<BigInt, _>(cursor.txid)
    .bind::<BigInt, _>(cursor.id)
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?)
}

/// The place before everything that may still appear: what a snapshot taken now does not surely hold comes after it.
pub async fn head(connection: &mut Connection) -> Result<Cursor> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        xmin: i64,
    }
    let row: Row =
        statement("select pg_snapshot_xmin(pg_current_snapshot())::text::bigint as xmin")
            .get_result(connection)
            .await?;
    Ok(Cursor {
        txid: row.xmin - 1,
        id: i64::MAX,
    })
}

/// Everything recorded of one subject, oldest first.
pub async fn of_subject(connection: &mut Connection, subject: Uuid) -> Result<Vec<Change>> {
    Ok(statement(
        "select id, txid, at, kind, subject, body from outbox where subject = $1 order by txid, id",
    )
    .bind::<SqlUuid, _>(subject)
    .load(connection)
    .await?)
}

/// PostgreSQL's time, and the time of the last change if it is later: the service's clock starts here.
pub async fn moment(connection: &mut Connection) -> Result<Moment> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    // The one place, beside the leadership row, that asks PostgreSQL for the time.
    let row: Row = statement(
        "select greatest(clock_timestamp(), (select at from outbox order by txid desc, id desc limit 1)) as at",
    )
    .get_result(connection)
    .await?;
    Ok(row.at.0)
}
