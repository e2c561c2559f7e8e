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
    #[diesel(sql_type = Nullable<Bytea>)]
    pub answer: Option<Vec<u8>>,
}

/// Reserves a key for a request. Returns the stored answer if it was used before.
pub async fn begin(
    connection: &mut Connection,
    token: Uuid,
    key: &str,
    body_hash: &[u8],
    at: Moment,
) -> Result<Option<StoredAnswer>> {
    let made = sql!(
        "insert into idempotency (token_id, key, body_hash, at) values (:token, :key, :body_hash, :at) on conflict do nothing";
        token: SqlUuid = token,
        key: Text = key,
        body_hash: Bytea = body_hash,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    if made == 1 {
        return Ok(None);
    }
    Ok(sql!(
        "select body_hash, status, answer from idempotency where token_id = :token and key = :key";
        token: SqlUuid = token,
        key: Text = key,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Keeps the answer to a request with a key.
pub async fn finish(
    connection: &mut Connection,
    token: Uuid,
    key: &str,
    status: u16,
    answer: &[u8],
) -> Result<()> {
    sql!(
        "update idempotency set status = :status, answer = :answer where token_id = :token and key = :key";
        status: Integer = i32::from(status),
        answer: Bytea = answer,
        token: SqlUuid = token,
        key: Text = key,
    )
        .execute(connection)
        .await?;
    Ok(())
}

/// Gives a key free again, after a request that changed nothing.
pub async fn forget(connection: &mut Connection, token: Uuid, key: &str) -> Result<()> {
    sql!(
        "delete from idempotency where token_id = :token and key = :key";
        token: SqlUuid = token,
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
