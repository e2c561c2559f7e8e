//! Answers kept for a while, so that a write that is sent twice is made once.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{Bytea, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::time::Moment;
use uuid::Uuid;

/// What is known of a key.
#[derive(Debug, QueryableByName)]
pub struct StoredAnswer {
    #[diesel(sql_type = Bytea)]
    pub body_hash: Vec<u8>,
    /// The answer's status; none while the first request is still in progress.
    #[diesel(sql_type = Nullable<Integer>)]
    pub status: Option<i32>,
    /// None where it was not kept, because it held a secret.
    #[diesel(sql_type = Nullable<Bytea>)]
    pub answer: Option<Vec<u8>>,
}

/// What beginning a write with a key has found.
#[derive(Debug)]
pub enum KeyReservation {
    /// The write is this caller's to make: what it makes has this id. An earlier caller that did not get to its end may have
    /// made it.
    Own(Uuid),
    /// Another request makes it, or has made it.
    Known(StoredAnswer),
}

#[derive(QueryableByName)]
struct Subject {
    #[diesel(sql_type = SqlUuid)]
    subject: Uuid,
}

/// Reserves a key for a request, which makes something with the id `subject`. A key whose request began before `abandoned`
/// and has no answer is taken over: the process that had it is gone.
pub async fn begin(
    connection: &mut Connection,
    (writer, key): (Uuid, &str),
    body_hash: &[u8],
    subject: Uuid,
    at: Moment,
    abandoned: Moment,
) -> Result<KeyReservation> {
    for _ in 0..LOOKS {
        if let Some(own) =
            reserve(connection, (writer, key), body_hash, subject, at, abandoned).await?
        {
            return Ok(KeyReservation::Own(own.subject));
        }
        // Between the two it may have been given free again.
        if let Some(known) = known(connection, writer, key).await? {
            return Ok(KeyReservation::Known(known));
        }
    }
    // Another request has it nearly all the time.
    Ok(KeyReservation::Known(StoredAnswer {
        body_hash: body_hash.to_owned(),
        status: None,
        answer: None,
    }))
}

/// How often a key is looked at that others reserve and give free again.
const LOOKS: usize = 10;

async fn reserve(
    connection: &mut Connection,
    (writer, key): (Uuid, &str),
    body_hash: &[u8],
    subject: Uuid,
    at: Moment,
    abandoned: Moment,
) -> Result<Option<Subject>> {
    Ok(sql!(
        "insert into idempotency as known (writer_id, key, body_hash, subject, at)
         values (:writer, :key, :body_hash, :subject, :at)
         on conflict (writer_id, key) do update set at = excluded.at
           where known.status is null and known.at < :abandoned and known.body_hash = excluded.body_hash
         returning subject";
        writer: SqlUuid = writer,
        key: Text = key,
        body_hash: Bytea = body_hash,
        subject: SqlUuid = subject,
        at: Timestamptz = Db(at),
        abandoned: Timestamptz = Db(abandoned),
    )
    .get_result(connection)
    .await
    .optional()?)
}

async fn known(
    connection: &mut Connection,
    writer: Uuid,
    key: &str,
) -> Result<Option<StoredAnswer>> {
    Ok(sql!(
        "select body_hash, status, answer from idempotency where writer_id = :writer and key = :key";
        writer: SqlUuid = writer,
        key: Text = key,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Keeps the answer to a request with a key; none where it holds a secret.
pub async fn finish(
    connection: &mut Connection,
    writer: Uuid,
    key: &str,
    status: u16,
    answer: Option<&[u8]>,
) -> Result<()> {
    sql!(
        "update idempotency set status = :status, answer = :answer where writer_id = :writer and key = :key";
        status: Integer = i32::from(status),
        answer: Nullable<Bytea> = answer,
        writer: SqlUuid = writer,
        key: Text = key,
    )
        .execute(connection)
        .await?;
    Ok(())
}

/// Gives a key free again, after a request that changed nothing.
pub async fn forget(connection: &mut Connection, writer: Uuid, key: &str) -> Result<()> {
    sql!(
        "delete from idempotency where writer_id = :writer and key = :key";
        writer: SqlUuid = writer,
        key: Text = key,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Forgets keys from before `until`.
pub async fn sweep(connection: &mut Connection, until: Moment) -> Result<usize> {
    Ok(sql!(
        "delete from idempotency where at < :until";
        until: Timestamptz = Db(until),
    )
    .execute(connection)
    .await?)
}
