//! Archives of files that were uploaded for runs. The bytes are in the object store, by the archive's id.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::sql_types::{BigInt, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{AttemptId, PlaceId, SourceId};
use pennine_core::time::Moment;

/// An archive.
#[derive(Clone, Debug, QueryableByName)]
pub struct SourceArchive {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<SourceId>,
    #[diesel(sql_type = SqlUuid)]
    pub project_id: Db<PlaceId>,
    #[diesel(sql_type = BigInt)]
    pub bytes: i64,
    /// The SHA-256, in hexadecimal.
    #[diesel(sql_type = Text)]
    pub digest: String,
}

/// Records an archive whose bytes are durable.
///
/// # Errors
/// Where the database does not answer.
pub async fn add(
    connection: &mut Connection,
    archive: &SourceArchive,
    by: &str,
    at: Moment,
) -> Result<()> {
    sql!(
        "insert into source_archive (id, project_id, bytes, digest, created_at, created_by)
         values (:id, :project, :bytes, :digest, :at, :by)";
        id: SqlUuid = archive.id,
        project: SqlUuid = archive.project_id,
        bytes: BigInt = archive.bytes,
        digest: Text = &archive.digest,
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The archive with this id.
///
/// # Errors
/// Where the database does not answer.
pub async fn find(connection: &mut Connection, id: SourceId) -> Result<Option<SourceArchive>> {
    Ok(sql!(
        "select id, project_id, bytes, digest from source_archive where id = :id";
        id: SqlUuid = Db(id),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// The archive with which the job of an attempt begins.
///
/// # Errors
/// Where the database does not answer.
pub async fn of_attempt(
    connection: &mut Connection,
    attempt: AttemptId,
) -> Result<Option<SourceArchive>> {
    Ok(sql!(
        "select s.id, s.project_id, s.bytes, s.digest
         from attempt a join job j on j.id = a.job_id join run r on r.id = j.run_id join source_archive s on s.id = r.source_id
         where a.id = :attempt";
        attempt: SqlUuid = Db(attempt),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Archives that were uploaded before this moment and belong to no run that is open; the first `limit` of them.
///
/// # Errors
/// Where the database does not answer.
pub async fn unused(
    connection: &mut Connection,
    before: Moment,
    limit: i64,
) -> Result<Vec<SourceId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<SourceId>,
    }
    let rows: Vec<Row> = sql!(
        "select id from source_archive s
         where created_at < :before
           and not exists (select from run where source_id = s.id and finished_at is null)
         order by created_at limit :limit";
        before: Timestamptz = Db(before),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Forgets an archive whose bytes are gone.
///
/// # Errors
/// Where the database does not answer.
pub async fn remove(connection: &mut Connection, id: SourceId) -> Result<()> {
    sql!(
        "delete from source_archive where id = :id";
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
    Ok(())
}
