//! The yard file that was applied last.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::time::Moment;
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// What stands in it: names by their kind.
pub type ManagedNames = BTreeMap<String, BTreeSet<String>>;

/// A yard file.
#[derive(Clone, Debug, QueryableByName)]
pub struct YardFile {
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Jsonb)]
    pub things: Json<ManagedNames>,
    #[diesel(sql_type = Timestamptz)]
    pub applied_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub applied_by: String,
}

/// The one that was applied last, where any was.
pub async fn read(connection: &mut Connection) -> Result<Option<YardFile>> {
    let mut found: Vec<YardFile> =
        sql!("select name, things, applied_at, applied_by from yard_file")
            .load(connection)
            .await?;
    Ok(found.pop())
}

/// Records that one was applied.
pub async fn write(connection: &mut Connection, file: &YardFile) -> Result<()> {
    sql!(
        "with f as (
           insert into yard_file (name, things, applied_at, applied_by) values (:name, :things, :applied_at, :applied_by)
           on conflict (one) do update set name = excluded.name, things = excluded.things,
             applied_at = excluded.applied_at, applied_by = excluded.applied_by
           returning applied_at)"
         change YardFileApplied { installation: ":subject" } at "applied_at" from "f";
        name: Text = &file.name,
        things: Jsonb = file.things.clone(),
        applied_at: Timestamptz = file.applied_at,
        applied_by: Text = &file.applied_by,
        subject: SqlUuid = Uuid::nil(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Forgets it: nothing is kept in a file any more.
pub async fn forget(connection: &mut Connection, at: Moment) -> Result<()> {
    sql!(
        "with f as (delete from yard_file returning name)"
         change YardFileForgotten { installation: ":subject", name: "name" } at ":at" from "f";
        at: Timestamptz = Db(at),
        subject: SqlUuid = Uuid::nil(),
    )
    .execute(connection)
    .await?;
    Ok(())
}
