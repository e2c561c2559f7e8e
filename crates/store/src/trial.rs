//! Trials: a machine that the check of a supplier makes, which enrols and is told to go.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
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
    pub made_at: Db<Moment>,
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
    statement("insert into trial (id, supplier_id, secret_hash, made_at) values ($1, $2, $3, $4)")
        .bind::<SqlUuid, _>(Db(id))
        .bind::<SqlUuid, _>(Db(supplier))
        .bind::<Bytea, _>(secret_hash)
        .bind::<Timestamptz, _>(Db(at))
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
    let joined = statement(
        "update trial set joined_at = coalesce(joined_at, $1), facts = $2, peer = $3 where secret_hash = $4",
    )
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Jsonb, _>(Json(facts.clone()))
    .bind::<Nullable<Text>, _>(peer)
    .bind::<Bytea, _>(secret_hash)
    .execute(connection)
    .await?;
    Ok(joined == 1)
}

/// How it stands.
pub async fn find(connection: &mut Connection, id: MachineId) -> Result<Option<Trial>> {
    Ok(
        statement("select supplier_id, made_at, joined_at, peer, facts from trial where id = $1")
            .bind::<SqlUuid, _>(Db(id))
            .get_result(connection)
            .await
            .optional()?,
    )
}

/// Forgets it.
pub async fn remove(connection: &mut Connection, id: MachineId) -> Result<()> {
    statement("delete from trial where id = $1")
        .bind::<SqlUuid, _>(Db(id))
        .execute(connection)
        .await?;
    Ok(())
}

/// Those that are under way: their machines are not orphans.
pub async fn open(connection: &mut Connection) -> Result<Vec<MachineId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<MachineId>,
    }
    let rows: Vec<Row> = statement("select id from trial").load(connection).await?;
    Ok(rows.into_iter().map(|row| row.id.0).collect())
}

/// Forgets those that were made before a moment: whoever made them is gone.
pub async fn sweep(connection: &mut Connection, before: Moment) -> Result<()> {
    statement("delete from trial where made_at < $1")
        .bind::<Timestamptz, _>(Db(before))
        .execute(connection)
        .await?;
    Ok(())
}
