//! Who changed what, when.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::audit;
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;

/// Records an action.
pub async fn write(
    connection: &mut Connection,
    at: Moment,
    who: &str,
    what: &str,
    subject: &str,
    detail: serde_json::Value,
) -> Result<()> {
    let row = (
        audit::at.eq(Db(at)),
        audit::who.eq(who),
        audit::what.eq(what),
        audit::subject.eq(subject),
        audit::detail.eq(detail),
    );
    diesel::insert_into(audit::table)
        .values(row)
        .execute(connection)
        .await?;
    Ok(())
}

/// Records the same action on several subjects.
pub async fn write_all(
    connection: &mut Connection,
    at: Moment,
    who: &str,
    what: &str,
    subjects: &[String],
    detail: &serde_json::Value,
) -> Result<()> {
    let one = |subject: &String| {
        (
            audit::at.eq(Db(at)),
            audit::who.eq(who),
            audit::what.eq(what),
            audit::subject.eq(subject.clone()),
            audit::detail.eq(detail.clone()),
        )
    };
    let rows: Vec<_> = subjects.iter().map(one).collect();
    diesel::insert_into(audit::table)
        .values(rows)
        .execute(connection)
        .await?;
    Ok(())
}

/// Returns when something was last done to a subject, and by whom.
pub async fn latest(
    connection: &mut Connection,
    what: &str,
    subject: &str,
) -> Result<Option<(Moment, String)>> {
    let row: Option<(Db<Moment>, String)> = audit::table
        .select((audit::at, audit::who))
        .filter(audit::what.eq(what))
        .filter(audit::subject.eq(subject))
        .order(audit::at.desc())
        .first(connection)
        .await
        .optional()?;
    Ok(row.map(|(at, who)| (at.0, who)))
}
