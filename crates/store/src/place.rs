//! The tree of teams and projects.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox;
use crate::schema::place;
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::id::PlaceId;
use pennine_core::time::Moment;
use serde_json::json;
use uuid::Uuid;

/// A place: the root, a team or a project.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = place)]
pub struct Place {
    pub id: Db<PlaceId>,
    pub kind: String,
    pub name: String,
    pub path: String,
    pub parent_id: Option<Uuid>,
    pub created_at: Db<Moment>,
}

/// Adds a place.
pub async fn insert(connection: &mut Connection, new: &Place) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(place::table)
                .values(new)
                .execute(connection)
                .await?;
            let body = json!({"kind": new.kind, "path": new.path});
            outbox::write(connection, new.created_at.0, "place.made", new.id.0, body).await
        })
        .await
}

/// Every place of a kind, by path.
pub async fn list(connection: &mut Connection, kind: &str) -> Result<Vec<Place>> {
    Ok(place::table
        .select(Place::as_select())
        .filter(place::kind.eq(kind))
        .order(place::path)
        .load(connection)
        .await?)
}

/// The places of a kind with this path, or, where the text has no `/`, with this name.
pub async fn find(connection: &mut Connection, kinds: &[&str], text: &str) -> Result<Vec<Place>> {
    let found: Vec<Place> = place::table
        .select(Place::as_select())
        .filter(place::kind.eq_any(kinds))
        .filter(place::path.eq(text).or(place::name.eq(text)))
        .order(place::path)
        .load(connection)
        .await?;
    // The exact path wins over the same name elsewhere.
    match found.iter().find(|place| place.path == text) {
        Some(exact) => Ok(vec![exact.clone()]),
        None => Ok(found),
    }
}

/// The root.
pub async fn root(connection: &mut Connection) -> Result<Place> {
    Ok(place::table
        .select(Place::as_select())
        .filter(place::kind.eq("root"))
        .first(connection)
        .await?)
}
