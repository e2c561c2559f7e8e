//! How far the change feed was sent as traces.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox::{self, Cursor};
use crate::statement::sql;
use diesel::QueryableByName;
use diesel::sql_types::BigInt;

/// The place up to which jobs were sent; now, where none ever was.
pub async fn cursor(connection: &mut Connection) -> Result<Cursor> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        txid: i64,
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let rows: Vec<Row> = sql!("select txid, id from trace_cursor")
        .load(connection)
        .await?;
    match rows.first() {
        Some(row) => Ok(Cursor::at(row.txid, row.id)),
        None => {
            let head = outbox::head(connection).await?;
            note(connection, head).await?;
            Ok(head)
        }
    }
}

/// Notes the place up to which jobs were sent.
pub async fn note(connection: &mut Connection, cursor: Cursor) -> Result<()> {
    sql!(
        "insert into trace_cursor (txid, id) values (:txid, :id)
         on conflict (one) do update set txid = excluded.txid, id = excluded.id";
        txid: BigInt = cursor.transaction(),
        id: BigInt = cursor.number(),
    )
    .execute(connection)
    .await?;
    Ok(())
}
