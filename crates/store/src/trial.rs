//! Trials: machines that a supplier's check orders, which enrol and are then removed.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{Bytea, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::fact::Facts;
use pennine_core::id::{MachineId, SupplierId};
use pennine_core::time::Moment;

/// What came of a trial so far.
#[derive(Clone, Debug, QueryableByName)]
pub struct Trial {
    #[diesel(sql_type = SqlUuid)]
    pub supplier_id: Db<SupplierId>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub joined_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub peer: Option<String>,
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub facts: Option<Json<Facts>>,
}

/// Makes one.
pub async fn insert(
    connection: &mut Connection,
    id: MachineId,
    supplier: SupplierId,
    secret_hash: &[u8],
    at: Moment,
) -> Result<()> {
    sql!(
        "insert into trial (id, supplier_id, secret_hash, created_at) values (:id, :supplier, :secret_hash, :at)";
        id: SqlUuid = Db(id),
        supplier: SqlUuid = Db(supplier),
        secret_hash: Bytea = secret_hash,
        at: Timestamptz = Db(at),
    )
        .execute(connection)
        .await?;
    Ok(())
}

/// Its machine has come. False when there is no such trial.
pub async fn joined(
    connection: &mut Connection,
    secret_hash: &[u8],
    facts: &Facts,
    peer: Option<String>,
    at: Moment,
) -> Result<bool> {
    let joined = sql!(
        "update trial set joined_at = coalesce(joined_at, :at), facts = :facts, peer = :peer where secret_hash = :secret_hash";
        at: Timestamptz = Db(at),
        facts: Jsonb = Json(facts.clone()),
        peer: Nullable<Text> = peer,
        secret_hash: Bytea = secret_hash,
    )
    .execute(connection)
    .await?;
    Ok(joined == 1)
}

/// How it stands.
pub async fn find(connection: &mut Connection, id: MachineId) -> Result<Option<Trial>> {
    Ok(sql!(
        "select supplier_id, created_at, joined_at, peer, facts from trial where id = :id";
        id: SqlUuid = Db(id),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Forgets it.
pub async fn remove(connection: &mut Connection, id: MachineId) -> Result<()> {
    sql!(
        "delete from trial where id = :id";
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returns the trials in progress, whose machines are not orphans.
pub async fn open(connection: &mut Connection) -> Result<Vec<MachineId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<MachineId>,
    }
    let rows: Vec<Row> = sql!("select id from trial").load(connection).await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Deletes trials from before a moment, whose checks have ended.
pub async fn sweep(connection: &mut Connection, before: Moment) -> Result<()> {
    sql!(
        "delete from trial where created_at < :before";
        before: Timestamptz = Db(before),
    )
    .execute(connection)
    .await?;
    Ok(())
}
