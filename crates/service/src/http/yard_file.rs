//! The yard file: whoever applies one says so, and what stands in it is marked.

use super::answer::Answer;
use super::auth::{Principal, Role};
use super::body::JsonBody;
use crate::app::App;
use crate::error::ServiceError;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_store::types::Json as Jsonb;
use pennine_store::yard_file::{self, YardFile as Row};
use pennine_store::{Db, audit};
use pennine_wire::{AppliedYardFile, Problem, YardFile};
use serde_json::json;

/// The kinds of things that a yard file holds.
const KINDS: [&str; 7] = [
    "team", "project", "seat", "supplier", "pool", "target", "alerts",
];
/// The most things in one.
const MOST: usize = 20_000;

fn shown(row: Row) -> YardFile {
    YardFile {
        name: row.name,
        things: row.things.0,
        applied_at: row.applied_at.0,
        applied_by: row.applied_by,
    }
}

/// The yard file that was applied last; null where none ever was.
#[utoipa::path(get, operation_id = "show_yard_file", path = "/yard-file", tag = "yard", responses((status = 200, body = Option<YardFile>)))]
pub async fn show(State(app): State<App>, _: Principal) -> Answer<Json<Option<YardFile>>> {
    let mut connection = app.store.get().await?;
    Ok(Json(yard_file::read(&mut connection).await?.map(shown)))
}

/// Say that a yard file was applied, and what stands in it: that is marked from then on.
#[utoipa::path(put, operation_id = "note_yard_file", path = "/yard-file", tag = "yard", request_body = AppliedYardFile,
    responses((status = 200, body = YardFile), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn note(
    State(app): State<App>,
    who: Principal,
    JsonBody(applied): JsonBody<AppliedYardFile>,
) -> Answer<Json<YardFile>> {
    who.require(Role::Operator)?;
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
        let said = format!("{kind:?} is none of {}", KINDS.join(", "));
        return Err(ServiceError::invalid("things", said));
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
    let mut connection = app.store.get().await?;
    yard_file::write(&mut connection, &row).await?;
    let detail = json!({"things": count});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "yard-file.apply",
        &applied.name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(Json(shown(row)))
}

/// Forget the yard file: nothing is marked any more, and everything stays as it is.
#[utoipa::path(delete, operation_id = "forget_yard_file", path = "/yard-file", tag = "yard",
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn forget(State(app): State<App>, who: Principal) -> Answer<StatusCode> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let Some(row) = yard_file::read(&mut connection).await? else {
        return Ok(StatusCode::NO_CONTENT);
    };
    let now = app.clock.now();
    yard_file::forget(&mut connection, now).await?;
    audit::write(
        &mut connection,
        now,
        &who.name,
        "yard-file.forget",
        &row.name,
        json!({}),
    )
    .await?;
    app.feed.kick();
    Ok(StatusCode::NO_CONTENT)
}
