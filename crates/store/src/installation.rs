//! The installation itself: one row.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::installation;
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;
use uuid::Uuid;

/// What the installation is.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = installation)]
pub struct Installation {
    pub id: Uuid,
    pub name: String,
    /// The id of the key with which it encrypts.
    pub key_id: String,
    /// What the object store must hold under its own name.
    pub log_store: Uuid,
    pub created_at: Db<Moment>,
}

/// The installation, if it was made yet.
pub async fn find(connection: &mut Connection) -> Result<Option<Installation>> {
    Ok(installation::table
        .select(Installation::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// Records the installation unless another replica has. Returns the recorded one.
pub async fn found(connection: &mut Connection, new: &Installation) -> Result<Installation> {
    diesel::insert_into(installation::table)
        .values(new)
        .on_conflict_do_nothing()
        .execute(connection)
        .await?;
    Ok(installation::table
        .select(Installation::as_select())
        .first(connection)
        .await?)
}

/// The id of the key with which secrets are encrypted now.
pub async fn key_id(connection: &mut Connection) -> Result<Option<String>> {
    Ok(installation::table
        .select(installation::key_id)
        .first(connection)
        .await
        .optional()?)
}

/// Has secrets encrypted with another key from now on. False where the present one is not the one that was expected.
pub async fn set_key(connection: &mut Connection, before: &str, after: &str) -> Result<bool> {
    let changed = diesel::update(installation::table.filter(installation::key_id.eq(before)))
        .set(installation::key_id.eq(after))
        .execute(connection)
        .await?;
    Ok(changed == 1)
}
