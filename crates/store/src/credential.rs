//! Runners' credentials: who shows one, and how one is replaced by the next.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{
    Array, Bool, Bytea, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::RunnerId;
use pennine_core::job_policy::JobPolicy;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::overrides::Overrides;
use pennine_core::time::Moment;

/// Who shows a credential.
#[derive(Clone, Debug, QueryableByName)]
pub struct CredentialHolder {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<RunnerId>,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub state: Db<RunnerState>,
    #[diesel(sql_type = Text)]
    pub desired_state: Db<DesiredState>,
    /// What its machine is to keep to.
    #[diesel(sql_type = Integer)]
    pub slots: i32,
    #[diesel(sql_type = Array<Text>)]
    pub labels: Vec<String>,
    #[diesel(sql_type = Jsonb)]
    pub settings: Json<Overrides>,
    #[diesel(sql_type = Integer)]
    pub settings_version: i32,
    #[diesel(sql_type = Nullable<Integer>)]
    pub room: Option<i32>,
    /// Since when it has the credential that it shows.
    #[diesel(sql_type = Timestamptz)]
    pub credential_since: Db<Moment>,
    /// Whether it shows its next credential for the first time.
    #[diesel(sql_type = Bool)]
    pub shows_next: bool,
    /// Whether it takes one job and is replaced.
    #[diesel(sql_type = Bool)]
    pub single_use: bool,
    /// What jobs of its pool may reach and use.
    #[diesel(sql_type = Jsonb)]
    pub policy: Json<JobPolicy>,
}

/// The runner with this credential, be it its present or its next one.
pub async fn by_credential(
    connection: &mut Connection,
    hash: &[u8],
) -> Result<Option<CredentialHolder>> {
    Ok(sql!(
        "select r.id, r.name, r.state, r.desired_state, r.slots, r.single_use, r.labels, r.settings, r.settings_version, r.room,
                r.credential_since, coalesce(r.next_credential_hash = :hash, false) as shows_next, p.jobs as policy
         from runner r join pool p on p.id = r.pool_id
         where r.credential_hash = :hash or r.next_credential_hash = :hash";
        hash: Bytea = hash,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Since when a runner has its credential.
pub async fn credential_since(connection: &mut Connection, id: RunnerId) -> Result<Option<Moment>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    let row: Option<Row> = sql!(
        "select credential_since as at from runner where id = :id and credential_hash is not null";
        id: SqlUuid = Db(id),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.at.0))
}

/// Gives a runner its next credential, beside the one it shows. False when that is not its present one any more.
pub async fn offer_credential(
    connection: &mut Connection,
    id: RunnerId,
    present: &[u8],
    next: &[u8],
) -> Result<bool> {
    let offered = sql!(
        "update runner set next_credential_hash = :next where id = :id and credential_hash = :present and state <> 'retired'";
        next: Bytea = next,
        id: SqlUuid = Db(id),
        present: Bytea = present,
    )
    .execute(connection)
    .await?;
    Ok(offered == 1)
}

/// A runner has shown its next credential: it is the present one from now on, and the one before is worth nothing.
pub async fn adopt_credential(
    connection: &mut Connection,
    id: RunnerId,
    next: &[u8],
    at: Moment,
) -> Result<()> {
    sql!(
        "with r as (
           update runner set credential_hash = next_credential_hash, next_credential_hash = null, credential_since = :at
           where id = :id and next_credential_hash = :next returning id, credential_since)"
         change RunnerCredentialRenewed { runner: "id" } at "credential_since" from "r";
        at: Timestamptz = Db(at),
        id: SqlUuid = Db(id),
        next: Bytea = next,
    )
    .execute(connection)
    .await?;
    Ok(())
}
