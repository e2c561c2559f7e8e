//! The change feed: what changed, in an order in which no row can appear before a place already read.
//!
//! A serial number alone is not such an order: a transaction may take number 7, another take and commit 8, and a
//! reader that has seen 8 would never see 7. So the order is (transaction id, number), and only rows of transactions
//! below the snapshot's xmin are read: nothing at or below them can still commit.

use crate::change::{Change, Undecodable};
use crate::connect::Connection;
use crate::error::{Error, Result};
use crate::schema::outbox;
use crate::statement::sql;
use crate::types::{Db, RawJson};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;
use std::fmt;
use std::str::FromStr;
use uuid::Uuid;

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
    txid: i64,
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
            cursor: Cursor::at(self.txid, self.id),
            at: self.at.0,
            change: Change::decode(&self.kind, self.subject, &self.body.0),
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
            .ok_or("invalid cursor: two numbers joined by -")?;
        let number = |part: &str| {
            part.parse()
                .map_err(|_| format!("{part:?} is not a number"))
        };
        Ok(Cursor {
            txid: number(txid)?,
            id: number(id)?,
        })
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

/// What a reading of the feed found.
#[derive(Debug, Default)]
pub struct Read {
    /// The entries after the cursor that are safe to pass, in order.
    pub entries: Vec<Entry>,
    /// Whether more is committed already, but not safe to pass yet: an older transaction is still open. It will be in
    /// a moment, and nothing will say so.
    pub held_up: bool,
}

/// Reads at most `limit` entries after a place in the feed.
pub async fn read_after(connection: &mut Connection, cursor: Cursor, limit: i64) -> Result<Read> {
    #[derive(QueryableByName)]
    struct Found {
        #[diesel(embed)]
        entry: Row,
        #[diesel(sql_type = Bool)]
        safe: bool,
    }
    let rows: Vec<Found> = sql!(
        "select id, txid, at, kind, subject, body,
                txid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint as safe
         from outbox where (txid, id) > (:txid, :id) order by txid, id limit :limit";
        txid: BigInt = cursor.txid,
        id: BigInt = cursor.id,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    // Rows come by transaction, so what is not safe comes last.
    let held_up = rows.iter().any(|found| !found.safe);
    let entries = rows
        .into_iter()
        .take_while(|found| found.safe)
        .map(|found| found.entry.decode())
        .collect();
    Ok(Read { entries, held_up })
}

/// Returns the entries after a position in the feed that are delivered to listeners, up to the last safe position; in
/// order, at most `limit`.
pub async fn alerts_after(
    connection: &mut Connection,
    cursor: Cursor,
    limit: i64,
) -> Result<Vec<Entry>> {
    // The kinds are those of the index.
    let rows: Vec<Row> = sql!(
        "select id, txid, at, kind, subject, body from outbox
         where kind in ('alert.raised', 'alert.ended') and (txid, id) > (:txid, :id)
           and txid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint
         order by txid, id limit :limit";
        txid: BigInt = cursor.txid,
        id: BigInt = cursor.id,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(Row::decode).collect())
}

/// The place before everything that may still appear: what a snapshot taken now does not surely hold comes after it.
pub async fn head(connection: &mut Connection) -> Result<Cursor> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        xmin: i64,
    }
    let row: Row = sql!("select pg_snapshot_xmin(pg_current_snapshot())::text::bigint as xmin")
        .get_result(connection)
        .await?;
    Ok(Cursor {
        txid: row.xmin - 1,
        id: i64::MAX,
    })
}

/// Returns everything recorded of one subject, oldest first.
pub async fn of_subject(connection: &mut Connection, subject: Uuid) -> Result<Vec<Entry>> {
    let rows: Vec<Row> = sql!(
        "select id, txid, at, kind, subject, body from outbox where subject = :subject order by txid, id";
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
        "select greatest(clock_timestamp(), (select at from outbox order by txid desc, id desc limit 1)) as at"
    )
    .get_result(connection)
    .await?;
    Ok(row.at.0)
}
