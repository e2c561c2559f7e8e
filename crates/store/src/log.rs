//! How much of each log is durable, the tail that is not sealed yet, and the manifest of what is.
//!
//! Offsets and lengths are bytes; lines are counted by their ends, so `first_line` of a piece is the number of line
//! ends before it.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::Db;
use diesel::sql_types::{Array, BigInt, Bool, Bytea, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use diesel_async::AsyncConnection;
use pennine_core::id::AttemptId;
use pennine_core::time::Moment;

/// How a log stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct LogState {
    /// Durable bytes.
    #[diesel(sql_type = BigInt)]
    pub length: i64,
    /// Line ends among them.
    #[diesel(sql_type = BigInt)]
    pub lines: i64,
    /// Bytes that are sealed into objects.
    #[diesel(sql_type = BigInt)]
    pub sealed: i64,
    /// Whether no more will come.
    #[diesel(sql_type = Bool)]
    pub complete: bool,
    /// Whether it was cut at its cap.
    #[diesel(sql_type = Bool)]
    pub capped: bool,
    /// Whether it was taken away, since it was old.
    #[diesel(sql_type = Bool)]
    pub removed: bool,
}

/// A sealed stretch.
#[derive(Clone, Debug, QueryableByName)]
pub struct Object {
    #[diesel(sql_type = BigInt)]
    pub start: i64,
    #[diesel(sql_type = BigInt)]
    pub length: i64,
    #[diesel(sql_type = BigInt)]
    pub first_line: i64,
    #[diesel(sql_type = BigInt)]
    pub lines: i64,
    #[diesel(sql_type = Bytea)]
    pub sha256: Vec<u8>,
}

/// A stretch of the tail.
#[derive(Clone, Debug, QueryableByName)]
pub struct Chunk {
    #[diesel(sql_type = BigInt)]
    pub start: i64,
    #[diesel(sql_type = BigInt)]
    pub first_line: i64,
    #[diesel(sql_type = Bytea)]
    pub bytes: Vec<u8>,
}

/// What became of bytes that were sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Append {
    /// Durable; the log's state after them.
    Kept(LogState),
    /// They begin past the end: go on at this offset.
    Gap(i64),
    /// The log is complete.
    Closed(i64),
}

/// The number of line ends in some bytes.
pub fn line_ends(bytes: &[u8]) -> i64 {
    memchr::memchr_iter(b'\n', bytes).count() as i64
}

/// Appends bytes that begin at `offset`. Bytes that are there already are passed over, so that a repeat does no harm.
pub async fn append(
    connection: &mut Connection,
    attempt: AttemptId,
    offset: i64,
    bytes: &[u8],
) -> Result<Append> {
    connection
        .transaction(async |connection| {
            let found: Option<LogState> = statement(
                "select length, lines, sealed, complete, capped, removed from attempt_log where attempt_id = $1 for update",
            )
            .bind::<SqlUuid, _>(Db(attempt))
            .get_result(connection)
            .await
            .optional()?;
            let Some(state) = found else { return Ok(Append::Gap(0)) };
            let known = state.length - offset;
            if known < 0 {
                return Ok(Append::Gap(state.length));
            }
            let new = usize::try_from(known).ok().and_then(|known| bytes.get(known..)).unwrap_or_default();
            if new.is_empty() {
                return Ok(Append::Kept(state));
            }
            if state.complete {
                return Ok(Append::Closed(state.length));
            }
            let (added, lines) = (new.len() as i64, line_ends(new));
            statement(
                "with chunk as (insert into log_chunk (attempt_id, start, first_line, bytes) values ($1, $2, $3, $4))
                 update attempt_log set length = length + $5, lines = lines + $6 where attempt_id = $7",
            )
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<BigInt, _>(state.length)
            .bind::<BigInt, _>(state.lines)
            .bind::<Bytea, _>(new)
            .bind::<BigInt, _>(added)
            .bind::<BigInt, _>(lines)
            .bind::<SqlUuid, _>(Db(attempt))
            .execute(connection)
            .await?;
            Ok(Append::Kept(LogState { length: state.length + added, lines: state.lines + lines, ..state }))
        })
        .await
}

/// How a log stands, if the attempt has one.
pub async fn state(connection: &mut Connection, attempt: AttemptId) -> Result<Option<LogState>> {
    Ok(statement(
        "select length, lines, sealed, complete, capped, removed from attempt_log where attempt_id = $1",
    )
    .bind::<SqlUuid, _>(Db(attempt))
    .get_result(connection)
    .await
    .optional()?)
}

/// The sealed stretches, in order.
pub async fn objects(connection: &mut Connection, attempt: AttemptId) -> Result<Vec<Object>> {
    Ok(statement(
        "select start, length, first_line, lines, sha256 from log_object where attempt_id = $1 order by start",
    )
    .bind::<SqlUuid, _>(Db(attempt))
    .load(connection)
    .await?)
}

/// The tail from an offset on, at most so many stretches.
pub async fn chunks(
    connection: &mut Connection,
    attempt: AttemptId,
    from: i64,
    limit: i64,
) -> Result<Vec<Chunk>> {
    Ok(statement(
        "select start, first_line, bytes from log_chunk
         where attempt_id = $1 and start + length(bytes) > $2 order by start limit $3",
    )
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<BigInt, _>(from)
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?)
}

/// Records that the whole tail, with bytes that came after it, lies in these objects, one after the other, and appends what
/// came after these. False, and nothing changed, when the log is not any more as `state` says.
pub async fn extend_sealed(
    connection: &mut Connection,
    attempt: AttemptId,
    state: LogState,
    objects: &[Object],
    rest: &[u8],
) -> Result<bool> {
    let Some(last) = objects.last() else {
        return Ok(false);
    };
    let end = last.start + last.length;
    let lines = last.first_line + last.lines;
    let column = |of: fn(&Object) -> i64| objects.iter().map(of).collect::<Vec<i64>>();
    let hashes: Vec<&[u8]> = objects.iter().map(|one| one.sha256.as_slice()).collect();
    let extended = statement(
        "with l as (
           update attempt_log set length = $1, sealed = $2, lines = $3
           where attempt_id = $4 and length = $5 and sealed = $6 and not complete returning attempt_id),
         gone as (delete from log_chunk c using l where c.attempt_id = l.attempt_id),
         tail as (
           insert into log_chunk (attempt_id, start, first_line, bytes)
           select attempt_id, $7, $8, rest from l, (select $9::bytea as rest) r where length(rest) > 0)
         insert into log_object (attempt_id, start, length, first_line, lines, sha256)
         select l.attempt_id, o.* from l, unnest($10, $11, $12, $13, $14) as o",
    )
    .bind::<BigInt, _>(end + rest.len() as i64)
    .bind::<BigInt, _>(end)
    .bind::<BigInt, _>(lines + line_ends(rest))
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<BigInt, _>(state.length)
    .bind::<BigInt, _>(state.sealed)
    .bind::<BigInt, _>(end)
    .bind::<BigInt, _>(lines)
    .bind::<Bytea, _>(rest)
    .bind::<Array<BigInt>, _>(column(|one| one.start))
    .bind::<Array<BigInt>, _>(column(|one| one.length))
    .bind::<Array<BigInt>, _>(column(|one| one.first_line))
    .bind::<Array<BigInt>, _>(column(|one| one.lines))
    .bind::<Array<Bytea>, _>(hashes)
    .execute(connection)
    .await?;
    Ok(extended == objects.len())
}

/// Records that a stretch from the tail's start is sealed, and takes it out of the tail. False, and nothing changed,
/// when somebody else sealed it first.
pub async fn seal(
    connection: &mut Connection,
    attempt: AttemptId,
    object: &Object,
) -> Result<bool> {
    let end = object.start + object.length;
    connection
        .transaction(async |connection| {
            let moved = statement(
                "update attempt_log set sealed = $1 where attempt_id = $2 and sealed = $3 and length >= $4",
            )
            .bind::<BigInt, _>(end)
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<BigInt, _>(object.start)
            .bind::<BigInt, _>(end)
            .execute(connection)
            .await?;
            if moved == 0 {
                return Ok(false);
            }
            statement(
                "with object as (
                   insert into log_object (attempt_id, start, length, first_line, lines, sha256)
                   values ($1, $2, $3, $4, $5, $6)),
                 whole as (delete from log_chunk where attempt_id = $7 and start + length(bytes) <= $8)
                 update log_chunk set bytes = substring(bytes from ($9 - start + 1)::int), start = $10,
                        first_line = $11
                 where attempt_id = $12 and start < $13 and start + length(bytes) > $14",
            )
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<BigInt, _>(object.start)
            .bind::<BigInt, _>(object.length)
            .bind::<BigInt, _>(object.first_line)
            .bind::<BigInt, _>(object.lines)
            .bind::<Bytea, _>(&object.sha256)
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<BigInt, _>(end)
            .bind::<BigInt, _>(end)
            .bind::<BigInt, _>(end)
            .bind::<BigInt, _>(object.first_line + object.lines)
            .bind::<SqlUuid, _>(Db(attempt))
            .bind::<BigInt, _>(end)
            .bind::<BigInt, _>(end)
            .execute(connection)
            .await?;
            Ok(true)
        })
        .await
}

/// Logs that are complete and not wholly sealed: a replica stopped in between.
pub async fn unsealed(connection: &mut Connection, limit: i64) -> Result<Vec<AttemptId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        attempt_id: Db<AttemptId>,
    }
    let rows: Vec<Row> = statement(
        "select attempt_id from attempt_log where complete and sealed < length and not removed order by 1 limit $1",
    )
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.attempt_id.0).collect())
}

/// Marks the logs of attempts made before a moment as taken away, once they are complete; the oldest first, at most so many.
/// Whoever asks for one is told so from then on. How many.
pub async fn take_away(connection: &mut Connection, before: Moment, most: i64) -> Result<usize> {
    Ok(statement(
        "with old as (
           select attempt_id from attempt_log where not removed and complete
             and attempt_id < first_uuid($1 at time zone 'UTC') order by 1 limit $2),
         tail as (delete from log_chunk where attempt_id in (select attempt_id from old))
         update attempt_log set removed = true where attempt_id in (select attempt_id from old)",
    )
    .bind::<Timestamptz, _>(Db(before))
    .bind::<BigInt, _>(most)
    .execute(connection)
    .await?)
}

/// Logs that are taken away and of which objects are still there, of attempts made before a moment; at most so many.
pub async fn with_objects_left(
    connection: &mut Connection,
    before: Moment,
    limit: i64,
) -> Result<Vec<AttemptId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        attempt_id: Db<AttemptId>,
    }
    let rows: Vec<Row> = statement(
        "select distinct o.attempt_id from log_object o join attempt_log l on l.attempt_id = o.attempt_id
         where l.removed and o.attempt_id < first_uuid($1 at time zone 'UTC') order by 1 limit $2",
    )
    .bind::<Timestamptz, _>(Db(before))
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.attempt_id.0).collect())
}

/// Records that no object of a log is left.
pub async fn note_no_objects(connection: &mut Connection, attempt: AttemptId) -> Result<()> {
    statement("delete from log_object where attempt_id = $1")
        .bind::<SqlUuid, _>(Db(attempt))
        .execute(connection)
        .await?;
    Ok(())
}

/// Forgets the logs that were taken away of attempts made before a moment; some at a time.
pub async fn forget(connection: &mut Connection, before: Moment, most: i64) -> Result<usize> {
    Ok(statement(
        "delete from attempt_log where attempt_id in (
           select attempt_id from attempt_log
           where removed and attempt_id < first_uuid($1 at time zone 'UTC') order by 1 limit $2)",
    )
    .bind::<Timestamptz, _>(Db(before))
    .bind::<BigInt, _>(most)
    .execute(connection)
    .await?)
}
