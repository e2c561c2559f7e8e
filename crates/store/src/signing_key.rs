//! The keys that sign identity tokens of jobs.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Array, Jsonb, Text, Timestamptz};
use pennine_core::identity::{KeyAge, SigningAlgorithm};
use pennine_core::time::Moment;
use serde_json::Value;

/// A key.
#[derive(Clone, Debug, QueryableByName)]
pub struct SigningKey {
    /// Its thumbprint (RFC 7638).
    #[diesel(sql_type = Text)]
    pub id: String,
    #[diesel(sql_type = Text)]
    pub algorithm: Db<SigningAlgorithm>,
    /// The private part, encrypted.
    #[diesel(sql_type = Text)]
    pub locked: String,
    /// The public part, as a JSON Web Key (RFC 7517).
    #[diesel(sql_type = Jsonb)]
    pub public: Json<Value>,
    #[diesel(sql_type = Timestamptz)]
    pub made_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub signs_from: Db<Moment>,
}

impl SigningKey {
    /// The key as far as its age matters.
    pub fn age(&self) -> KeyAge {
        KeyAge {
            id: self.id.clone(),
            algorithm: self.algorithm.0,
            signs_from: self.signs_from.0,
        }
    }
}

/// Every key, the latest first.
pub async fn all(connection: &mut Connection) -> Result<Vec<SigningKey>> {
    Ok(sql!(
        "select id, algorithm, locked, public, made_at, signs_from from signing_key order by signs_from desc, id"
    )
    .load(connection)
    .await?)
}

/// Stores a key.
pub async fn insert(connection: &mut Connection, new: &SigningKey) -> Result<()> {
    sql!(
        "insert into signing_key (id, algorithm, locked, public, made_at, signs_from)
         values (:id, :algorithm, :locked, :public, :made_at, :signs_from)";
        id: Text = new.id.clone(),
        algorithm: Text = new.algorithm,
        locked: Text = new.locked.clone(),
        public: Jsonb = new.public.clone(),
        made_at: Timestamptz = new.made_at,
        signs_from: Timestamptz = new.signs_from,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Removes keys.
pub async fn remove(connection: &mut Connection, ids: &[String]) -> Result<()> {
    sql!(
        "delete from signing_key where id = any(:ids)";
        ids: Array<Text> = ids,
    )
    .execute(connection)
    .await?;
    Ok(())
}
