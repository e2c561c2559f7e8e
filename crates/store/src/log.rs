//! How much of each log is durable, the tail that is not sealed yet, and the manifest of what is.
//!
//! Offsets and lengths are bytes; lines are counted by their ends, so `first_line` of a piece is the number of line
//! ends before it.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{Array, BigInt, Bool, Bytea, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use diesel_async::AsyncConnection;
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::time::Moment;

/// The state of a log.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct LogState {
    /// Durable bytes.
    #[diesel(sql_type = BigInt)]
    pub length: i64,
    /// Line ends among the durable bytes.
    #[diesel(sql_type = BigInt)]
    pub lines: i64,
    /// Bytes that are sealed into objects.
    #[diesel(sql_type = BigInt)]
    pub sealed: i64,
    /// Whether the log is complete.
    #[diesel(sql_type = Bool)]
    pub complete: bool,
    /// Whether it was cut at its cap.
    #[diesel(sql_type = Bool)]
    pub capped: bool,
    /// Whether it has expired.
    #[diesel(sql_type = Bool)]
    pub removed: bool,
}

/// A sealed object.
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

/// A chunk of the tail.
#[derive(Clone, Debug, QueryableByName)]
pub struct Chunk {
    #[diesel(sql_type = BigInt)]
    pub start: i64,
    #[diesel(sql_type = BigInt)]
    pub first_line: i64,
    #[diesel(sql_type = Bytea)]
    pub bytes: Vec<u8>,
}

/// The result of appending bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Append {
    /// Durable; the log's state after them.
    Kept(LogState),
    /// They begin past the end: continue at this offset.
    Gap(i64),
    /// The log is complete.
    Closed(i64),
}

/// The number of line ends in some bytes.
pub fn line_ends(bytes: &[u8]) -> i64 {
    memchr::memchr_iter(b'\n', bytes).count() as i64
}

/// Appends bytes that begin at `offset`. Bytes that are already stored are ignored, so that a repeat does no harm.
pub async fn append(
    connection: &mut Connection,
    attempt: AttemptId,
    offset: i64,
    bytes: &[u8],
) -> Result<Append> {
    connection
        .transaction(async |connection| {
            let found: Option<LogState> = sql!(
                "select length, lines, sealed, complete, capped, removed from attempt_log where attempt_id = :attempt for update";
                attempt: SqlUuid = Db(attempt),
            )
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
            sql!(
                "with chunk as (insert into log_chunk (attempt_id, start, first_line, bytes) values (:attempt, :known_length, :known_lines, :new))
                 update attempt_log set length = length + :added, lines = lines + :lines where attempt_id = :attempt";
                attempt: SqlUuid = Db(attempt),
                known_length: BigInt = state.length,
                known_lines: BigInt = state.lines,
                new: Bytea = new,
                added: BigInt = added,
                lines: BigInt = lines,
            )
            .execute(connection)
            .await?;
            Ok(Append::Kept(LogState { length: state.length + added, lines: state.lines + lines, ..state }))
        })
        .await
}

/// Returns how many bytes of log a runner's attempts have that were assigned since a moment.
pub async fn bytes_of_runner(
    connection: &mut Connection,
    runner: RunnerId,
    since: Moment,
) -> Result<u64> {
    // Ids are in the order of time (UUID v7), and have an index by runner.
    let millis = since.micros().max(0).unsigned_abs() / 1000;
    let first = uuid::Builder::from_unix_timestamp_millis(millis, &[0; 10]).into_uuid();
    let sum: Sum = sql!(
        "select coalesce(sum(l.length), 0)::bigint as bytes from attempt a join attempt_log l on l.attempt_id = a.id
         where a.runner_id = :runner and a.id >= :first";
        runner: SqlUuid = Db(runner),
        first: SqlUuid = first,
    )
    .get_result(connection)
    .await?;
    Ok(sum.bytes.max(0).unsigned_abs())
}

#[derive(QueryableByName)]
struct Sum {
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

/// Returns the state of a log, if the attempt has one.
pub async fn state(connection: &mut Connection, attempt: AttemptId) -> Result<Option<LogState>> {
    Ok(sql!(
        "select length, lines, sealed, complete, capped, removed from attempt_log where attempt_id = :attempt";
        attempt: SqlUuid = Db(attempt),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Returns the sealed objects, in order.
pub async fn objects(connection: &mut Connection, attempt: AttemptId) -> Result<Vec<Object>> {
    Ok(sql!(
        "select start, length, first_line, lines, sha256 from log_object where attempt_id = :attempt order by start";
        attempt: SqlUuid = Db(attempt),
    )
    .load(connection)
    .await?)
}

/// Returns at most `limit` chunks of the tail from an offset on.
pub async fn chunks(
    connection: &mut Connection,
    attempt: AttemptId,
    from: i64,
    limit: i64,
) -> Result<Vec<Chunk>> {
    Ok(sql!(
        "select start, first_line, bytes from log_chunk
         where attempt_id = :attempt and start + length(bytes) > :from order by start limit :limit";
        attempt: SqlUuid = Db(attempt),
        from: BigInt = from,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Records that the whole tail, with bytes that came after it, is in these objects, one after the other, and appends what
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
    let extended = sql!(
        "with l as (
           update attempt_log set length = :length, sealed = :end, lines = :all_lines
           where attempt_id = :attempt and length = :known_length and sealed = :sealed and not complete returning attempt_id),
         gone as (delete from log_chunk c using l where c.attempt_id = l.attempt_id),
         tail as (
           insert into log_chunk (attempt_id, start, first_line, bytes)
           select attempt_id, :end, :lines, rest from l, (select :rest::bytea as rest) r where length(rest) > 0)
         insert into log_object (attempt_id, start, length, first_line, lines, sha256)
         select l.attempt_id, o.* from l, unnest(:starts, :lengths, :first_lines, :line_counts, :hashes) as o";
        length: BigInt = end + rest.len() as i64,
        end: BigInt = end,
        all_lines: BigInt = lines + line_ends(rest),
        attempt: SqlUuid = Db(attempt),
        known_length: BigInt = state.length,
        sealed: BigInt = state.sealed,
        lines: BigInt = lines,
        rest: Bytea = rest,
        starts: Array<BigInt> = column(|one| one.start),
        lengths: Array<BigInt> = column(|one| one.length),
        first_lines: Array<BigInt> = column(|one| one.first_line),
        line_counts: Array<BigInt> = column(|one| one.lines),
        hashes: Array<Bytea> = hashes,
    )
    .execute(connection)
    .await?;
    Ok(extended == objects.len())
}

/// Records that a stretch from the tail's start is sealed, and takes it out of the tail. False, and nothing changed,
/// if another replica sealed it first.
pub async fn seal(
    connection: &mut Connection,
    attempt: AttemptId,
    object: &Object,
) -> Result<bool> {
    let end = object.start + object.length;
    connection
        .transaction(async |connection| {
            let moved = sql!(
                "update attempt_log set sealed = :end where attempt_id = :attempt and sealed = :start and length >= :end";
                end: BigInt = end,
                attempt: SqlUuid = Db(attempt),
                start: BigInt = object.start,
            )
            .execute(connection)
            .await?;
            if moved == 0 {
                return Ok(false);
            }
            sql!(
                "with object as (
                   insert into log_object (attempt_id, start, length, first_line, lines, sha256)
                   values (:attempt, :start, :length, :first_line, :lines, :sha256)),
                 whole as (delete from log_chunk where attempt_id = :attempt and start + length(bytes) <= :end)
                 update log_chunk set bytes = substring(bytes from (:end - start + 1)::int), start = :end,
                        first_line = :lines_until
                 where attempt_id = :attempt and start < :end and start + length(bytes) > :end";
                attempt: SqlUuid = Db(attempt),
                start: BigInt = object.start,
                length: BigInt = object.length,
                first_line: BigInt = object.first_line,
                lines: BigInt = object.lines,
                sha256: Bytea = &object.sha256,
                end: BigInt = end,
                lines_until: BigInt = object.first_line + object.lines,
            )
            .execute(connection)
            .await?;
            Ok(true)
        })
        .await
}

/// Returns logs that are complete but not completely sealed, because a replica stopped in between.
pub async fn unsealed(connection: &mut Connection, limit: i64) -> Result<Vec<AttemptId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        attempt_id: Db<AttemptId>,
    }
    let rows: Vec<Row> = sql!(
        "select attempt_id from attempt_log where complete and sealed < length and not removed order by 1 limit :limit";
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.attempt_id.0).collect())
}

/// Marks at most `limit` complete logs of attempts before a moment as removed, the oldest first, so that readers get a clear answer.
/// Returns how many.
pub async fn take_away(connection: &mut Connection, before: Moment, most: i64) -> Result<usize> {
    Ok(sql!(
        "with old as (
           select attempt_id from attempt_log where not removed and complete
             and attempt_id < first_uuid(:before at time zone 'UTC') order by 1 limit :most),
         tail as (delete from log_chunk where attempt_id in (select attempt_id from old))
         update attempt_log set removed = true where attempt_id in (select attempt_id from old)";
        before: Timestamptz = Db(before),
        most: BigInt = most,
    )
    .execute(connection)
    .await?)
}

/// Returns at most `limit` removed logs, of attempts before a moment, whose objects still exist.
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
    let rows: Vec<Row> = sql!(
        "select distinct o.attempt_id from log_object o join attempt_log l on l.attempt_id = o.attempt_id
         where l.removed and o.attempt_id < first_uuid(:before at time zone 'UTC') order by 1 limit :limit";
        before: Timestamptz = Db(before),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.attempt_id.0).collect())
}

/// Records that no object of a log is left.
pub async fn note_no_objects(connection: &mut Connection, attempt: AttemptId) -> Result<()> {
    sql!(
        "delete from log_object where attempt_id = :attempt";
        attempt: SqlUuid = Db(attempt),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Deletes the rows of removed logs of attempts before a moment; some at a time.
pub async fn forget(connection: &mut Connection, before: Moment, most: i64) -> Result<usize> {
    Ok(sql!(
        "delete from attempt_log where attempt_id in (
           select attempt_id from attempt_log
           where removed and attempt_id < first_uuid(:before at time zone 'UTC') order by 1 limit :most)";
        before: Timestamptz = Db(before),
        most: BigInt = most,
    )
    .execute(connection)
    .await?)
}
