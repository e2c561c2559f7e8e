//! Teams and projects.

use super::answer::{Answer, Failure, created};
use super::auth::{Principal, Role};
use super::body::{JsonBody, check_name};
use crate::app::App;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_core::id::PlaceId;
use pennine_store::{Connection, Db, audit, place};
use pennine_wire::{NewProject, NewTeam, Page, Place, Problem};
use serde_json::json;

fn shown(place: place::Place) -> Place {
    Place {
        id: place.id.0,
        name: place.name,
        path: place.path,
        kind: place.kind,
        created_at: place.created_at.0,
    }
}

/// The one place of these kinds with this path or name.
pub async fn find(
    connection: &mut Connection,
    kinds: &[&str],
    noun: &str,
    text: &str,
) -> Answer<place::Place> {
    let mut found = place::find(connection, kinds, text).await?;
    match found.len() {
        0 => Err(Failure::unknown(noun, text)),
        1 => Ok(found.remove(0)),
        _ => {
            let paths: Vec<String> = found.into_iter().map(|place| place.path).collect();
            Err(Failure::ambiguous(noun, text, &paths))
        }
    }
}

async fn add(
    app: &App,
    who: &Principal,
    kind: &str,
    name: String,
    parent: place::Place,
) -> Answer<Place> {
    who.require(Role::Operator)?;
    check_name("name", &name)?;
    let path = if parent.path.is_empty() {
        name.clone()
    } else {
        format!("{}/{name}", parent.path)
    };
    let new = place::Place {
        id: Db(PlaceId(app.fresh_id())),
        kind: kind.to_owned(),
        name,
        path: path.clone(),
        parent_id: Some(parent.id.0.0),
        created_at: Db(app.clock.now()),
    };
    let mut connection = app.store.get().await?;
    match place::insert(&mut connection, &new).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let said = format!("there is a team or project {path:?} already");
            return Err(
                Failure::conflict("exists-already", "The name is taken", said).field("name"),
            );
        }
        other => other?,
    }
    audit::write(
        &mut connection,
        new.created_at.0,
        &who.name,
        &format!("{kind}.add"),
        &path,
        json!({}),
    )
    .await?;
    app.feed.kick();
    Ok(shown(new))
}

/// The teams.
#[utoipa::path(get, operation_id = "list_teams", path = "/teams", tag = "tree", responses((status = 200, body = Page<Place>)))]
pub async fn teams(State(app): State<App>, _: Principal) -> Answer<Json<Page<Place>>> {
    let mut connection = app.store.get().await?;
    let items = place::list(&mut connection, "team")
        .await?
        .into_iter()
        .map(shown)
        .collect();
    Ok(Json(Page { items, next: None }))
}

/// Add a team.
#[utoipa::path(post, operation_id = "add_team", path = "/teams", tag = "tree", request_body = NewTeam,
    responses((status = 201, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add_team(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewTeam>,
) -> Answer<(StatusCode, Json<Place>)> {
    let mut connection = app.store.get().await?;
    let parent = match new.parent.as_deref() {
        None | Some("") => place::root(&mut connection).await?,
        Some(path) => find(&mut connection, &["team"], "team", path)
            .await
            .map_err(|f| f.field("parent"))?,
    };
    drop(connection);
    Ok(created(add(&app, &who, "team", new.name, parent).await?))
}

/// The projects.
#[utoipa::path(get, operation_id = "list_projects", path = "/projects", tag = "tree", responses((status = 200, body = Page<Place>)))]
pub async fn projects(State(app): State<App>, _: Principal) -> Answer<Json<Page<Place>>> {
    let mut connection = app.store.get().await?;
    let items = place::list(&mut connection, "project")
        .await?
        .into_iter()
        .map(shown)
        .collect();
    Ok(Json(Page { items, next: None }))
}

/// Add a project to a team.
#[utoipa::path(post, operation_id = "add_project", path = "/projects", tag = "tree", request_body = NewProject,
    responses((status = 201, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add_project(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewProject>,
) -> Answer<(StatusCode, Json<Place>)> {
    let mut connection = app.store.get().await?;
    let team = find(&mut connection, &["team"], "team", &new.team)
        .await
        .map_err(|f| f.field("team"))?;
    drop(connection);
    Ok(created(add(&app, &who, "project", new.name, team).await?))
}
