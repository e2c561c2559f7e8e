//! Who leads: one row, held for a time by PostgreSQL's clock.
//!
//! Not an advisory lock of a session: a stopped process would keep that for as long as TCP keeps its connection.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Bool, Nullable, Text, Uuid as SqlUuid};
use pennine_core::id::ReplicaId;

/// The number of a time of leading. It only grows; a batch that carries an old one is refused.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Epoch(pub i64);

#[derive(QueryableByName)]
struct EpochRow {
    #[diesel(sql_type = BigInt)]
    epoch: i64,
}

/// Takes the lead if it is free. A lead lasts 2 s unless renewed. One that was renewed in the future is free, too: PostgreSQL's
/// clock was set back since, and a leader that lives renews it by the new clock at once.
pub async fn acquire(
    connection: &mut Connection,
    holder: ReplicaId,
    address: &str,
) -> Result<Option<Epoch>> {
    let rows: Vec<EpochRow> = sql!(
        "update leadership set holder = :holder, address = :address, epoch = epoch + 1, renewed_at = clock_timestamp(),
                expires_at = clock_timestamp() + interval '2 seconds'
         where expires_at < clock_timestamp() or renewed_at > clock_timestamp() + interval '2 seconds' returning epoch";
        holder: SqlUuid = Db(holder),
        address: Text = address,
    )
    .load(connection)
    .await?;
    Ok(rows.as_slice().first().map(|row| Epoch(row.epoch)))
}

/// Keeps the lead for another 2 s; false when it has been lost.
pub async fn renew(connection: &mut Connection, holder: ReplicaId, epoch: Epoch) -> Result<bool> {
    let kept = sql!(
        "update leadership set renewed_at = clock_timestamp(), expires_at = clock_timestamp() + interval '2 seconds'
         where holder = :holder and epoch = :epoch";
        holder: SqlUuid = Db(holder),
        epoch: BigInt = epoch.0,
    )
    .execute(connection)
    .await?;
    Ok(kept == 1)
}

/// Gives the lead up, so that another replica need not wait for it to expire.
pub async fn release(connection: &mut Connection, holder: ReplicaId, epoch: Epoch) -> Result<()> {
    sql!(
        "update leadership set expires_at = clock_timestamp() where holder = :holder and epoch = :epoch";
        holder: SqlUuid = Db(holder),
        epoch: BigInt = epoch.0,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Whether this is the epoch still.
pub async fn is_epoch(connection: &mut Connection, epoch: Epoch) -> Result<bool> {
    Ok(current(connection).await?.epoch == epoch.0)
}

/// Who leads.
#[derive(Debug, QueryableByName)]
pub struct Leader {
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub holder: Option<Db<ReplicaId>>,
    #[diesel(sql_type = Text)]
    pub address: String,
    #[diesel(sql_type = BigInt)]
    pub epoch: i64,
    /// Whether its lead still holds.
    #[diesel(sql_type = Bool)]
    pub live: bool,
}

/// Who leads, or led last.
pub async fn current(connection: &mut Connection) -> Result<Leader> {
    Ok(sql!(
        "select holder, address, epoch, expires_at > clock_timestamp()
                and renewed_at <= clock_timestamp() + interval '2 seconds' as live
         from leadership"
    )
    .get_result(connection)
    .await?)
}
