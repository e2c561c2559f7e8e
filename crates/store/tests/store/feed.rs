//! Reading the feed.

use crate::{NOW, Record};
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Timestamptz};
use diesel_async::RunQueryDsl;
use pennine_store::connect::in_transaction;
use pennine_store::outbox::{self, Position};
use pennine_store::{Connection, Db};
use std::time::Duration;

const ENTRIES: i64 = 20_000;

#[derive(QueryableByName)]
struct RowCount {
    #[diesel(sql_type = BigInt)]
    rows: i64,
}

/// Rows of the feed that this transaction has read, by an index or without.
async fn rows_read(connection: &mut Connection) -> i64 {
    let asked = "select coalesce(sum(seq_tup_read + idx_tup_fetch), 0)::bigint as rows from pg_stat_xact_user_tables where relname like 'outbox%'";
    let found: RowCount = diesel::sql_query(asked)
        .get_result(connection)
        .await
        .unwrap();
    found.rows
}

#[tokio::test]
async fn a_live_reader_looks_up_what_it_takes_however_much_there_is() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let filled = format!(
        "insert into outbox (at, kind, subject, body)
         select $1, 'pool.facts', gen_random_uuid(), '{{}}' from generate_series(1, {ENTRIES})"
    );
    diesel::sql_query(filled)
        .bind::<Timestamptz, _>(Db(NOW))
        .execute(&mut *connection)
        .await
        .unwrap();
    // It has read all but four up to the fifth from the end.
    let recent = [ENTRIES - 10, ENTRIES - 5];
    let position = Position::beginning(&recent, Duration::ZERO);
    let (ids, rows) = in_transaction(&mut connection, async |connection| {
        let found = outbox::read_live(connection, &position, 1000).await?;
        let ids: Vec<i64> = found.iter().map(|entry| entry.cursor.0).collect();
        Ok::<_, pennine_store::Error>((ids, rows_read(connection).await))
    })
    .await
    .unwrap();
    let expected: Vec<i64> = (ENTRIES - 9..=ENTRIES)
        .filter(|id| *id != ENTRIES - 5)
        .collect();
    assert_eq!(ids, expected);
    assert!(rows <= 2 * ids.len() as i64, "{rows} rows were read");
}
