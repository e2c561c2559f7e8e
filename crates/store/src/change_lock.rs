//! Changes of one thing, one after the other.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use diesel::sql_types::Text;

/// Makes changes of one thing wait for each other until the transaction ends: of two that read it and write it back, none
/// is lost. `kind` and `name` say which thing.
pub async fn lock_for_change(connection: &mut Connection, kind: &str, name: &str) -> Result<()> {
    sql!(
        "select pg_advisory_xact_lock(hashtextextended(:key, 0))";
        key: Text = format!("{kind}:{name}"),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Makes changes of one thing wait until the transaction ends, so that what was read of it holds until then. Others may
/// hold it too.
pub async fn lock_against_change(
    connection: &mut Connection,
    kind: &str,
    name: &str,
) -> Result<()> {
    sql!(
        "select pg_advisory_xact_lock_shared(hashtextextended(:key, 0))";
        key: Text = format!("{kind}:{name}"),
    )
    .execute(connection)
    .await?;
    Ok(())
}
