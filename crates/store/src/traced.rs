//! How far the change feed was sent as traces.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox::Cursor;
use crate::statement::sql;
use diesel::QueryableByName;
use diesel::sql_types::BigInt;

/// The place up to which jobs were sent; `now`, the low mark of a live reader, where none ever was.
pub async fn cursor(connection: &mut Connection, now: Cursor) -> Result<Cursor> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let rows: Vec<Row> = sql!("select id from trace_cursor").load(connection).await?;
    if let Some(row) = rows.first() {
        return Ok(Cursor(row.id));
    }
    note(connection, now).await?;
    Ok(now)
}

/// Notes the place up to which jobs were sent.
pub async fn note(connection: &mut Connection, cursor: Cursor) -> Result<()> {
    sql!(
        "insert into trace_cursor (id) values (:id)
         on conflict (one) do update set id = excluded.id";
        id: BigInt = cursor.0,
    )
    .execute(connection)
    .await?;
    Ok(())
}
