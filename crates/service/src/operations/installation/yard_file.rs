//! The applied yard file, whose entries are marked as managed.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::views::installation::yard_file::shown;
use pennine_core::access::Action;
use pennine_store::types::Json as Jsonb;
use pennine_store::yard_file::{self, YardFile as Row};
use pennine_store::{Db, audit};
use pennine_wire::{AppliedYardFile, YardFile};
use serde_json::json;

/// The kinds of things that a yard file holds.
const KINDS: [&str; 9] = [
    "team",
    "project",
    "seat",
    "supplier",
    "pool",
    "target",
    "alerts",
    "token",
    "installation",
];

/// The most things in one.
const MOST: usize = 20_000;

/// Say that a yard file was applied, and what stands in it: that is marked from then on.
pub async fn note(app: &App, who: &Principal, applied: AppliedYardFile) -> Result<YardFile> {
    let permit = who.require(Action::ApplyYardFile, "")?;
    if applied.name.is_empty()
        || applied.name.len() > 200
        || applied.name.chars().any(char::is_control)
    {
        return Err(ServiceError::invalid(
            "name",
            "a file's name is a line of 1 to 200 bytes",
        ));
    }
    if let Some(kind) = applied
        .things
        .keys()
        .find(|kind| !KINDS.contains(&kind.as_str()))
    {
        let message = format!("unknown kind {kind:?}; known: {}", KINDS.join(", "));
        return Err(ServiceError::invalid("things", message));
    }
    let count: usize = applied
        .things
        .values()
        .map(std::collections::BTreeSet::len)
        .sum();
    if count > MOST {
        return Err(ServiceError::invalid(
            "things",
            format!("at most {MOST} things"),
        ));
    }
    let now = app.clock.now();
    let row = Row {
        name: applied.name.clone(),
        things: Jsonb(applied.things),
        applied_at: Db(now),
        applied_by: who.name.clone(),
    };
    commit(app, async |connection| {
        yard_file::write(connection, &row).await?;
        let detail = json!({"things": count});
        audit::write(
            connection,
            now,
            &permit,
            "yard-file.apply",
            &applied.name,
            detail,
        )
        .await?;
        Ok(shown(row))
    })
    .await
}

/// Forget the yard file: nothing is marked any more, and everything stays as it is.
pub async fn forget(app: &App, who: &Principal) -> Result<()> {
    let permit = who.require(Action::ApplyYardFile, "")?;
    commit(app, async |connection| {
        let Some(row) = yard_file::read(connection).await? else {
            return Ok(());
        };
        let now = app.clock.now();
        yard_file::forget(connection, now).await?;
        audit::write(
            connection,
            now,
            &permit,
            "yard-file.forget",
            &row.name,
            json!({}),
        )
        .await?;
        Ok(())
    })
    .await
}
