//! Teams and projects.

use super::answer::{Answer, created};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::yard::Yard;
use crate::app::App;
use crate::error::ServiceError;
use crate::validation::check_name;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::dispatch::below;
use pennine_core::id::PlaceId;
use pennine_core::time::Moment;
use pennine_store::{Connection, Db, audit, place};
use pennine_wire::{NewProject, NewTeam, Page, Place, PlaceChange, Problem};
use serde_json::json;

fn shown(place: place::Place, held: u32) -> Place {
    Place {
        weight: place.weight.max(1).unsigned_abs(),
        limit: place.view().limit,
        give_up_us: place.give_up_us.map(|give_up| give_up.0),
        held,
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
        0 => Err(ServiceError::unknown(noun, text)),
        1 => Ok(found.remove(0)),
        _ => {
            let paths: Vec<String> = found.into_iter().map(|place| place.path).collect();
            Err(ServiceError::ambiguous(noun, text, &paths))
        }
    }
}

/// The project that somebody calls so, from memory if it was asked for a moment ago.
pub async fn project(app: &App, connection: &mut Connection, text: &str) -> Answer<place::Place> {
    if let Some(known) = app.projects.get(text) {
        return Ok(known);
    }
    let found = find(connection, &["project"], "project", text).await?;
    app.projects.insert(text.to_owned(), found.clone());
    Ok(found)
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
        weight: 1,
        slot_limit: None,
        give_up_us: None,
    };
    let mut connection = app.store.get().await?;
    match place::insert(&mut connection, &new).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let said = format!("there is a team or project {path:?} already");
            return Err(ServiceError::taken(said));
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
    app.projects.invalidate_all();
    app.feed.kick();
    Ok(shown(new, 0))
}

async fn list(app: &App, kind: &str) -> Answer<Json<Page<Place>>> {
    let mut connection = app.store.get().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let places = yard.places.iter().filter(|place| place.kind == kind);
    let items = places
        .map(|place| shown(place.clone(), yard.held(&place.path)))
        .collect();
    Ok(Json(Page { items, next: None }))
}

/// The teams.
#[utoipa::path(get, operation_id = "list_teams", path = "/teams", tag = "tree", responses((status = 200, body = Page<Place>)))]
pub async fn teams(State(app): State<App>, _: Principal) -> Answer<Json<Page<Place>>> {
    list(&app, "team").await
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
    list(&app, "project").await
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

/// A change of a place's weight, limit, patience or team, checked.
fn checked(mut place: place::Place, change: &PlaceChange) -> Answer<place::Place> {
    if let Some(weight) = change.weight {
        place.weight = i32::try_from(weight)
            .ok()
            .filter(|weight| (1..=1000).contains(weight))
            .ok_or_else(|| ServiceError::invalid("weight", "a weight is 1 to 1000"))?;
    }
    if let Some(limit) = change.limit {
        place.slot_limit = match limit {
            None => None,
            Some(limit) => Some(i32::try_from(limit).map_err(|_| {
                ServiceError::invalid("limit", "a limit is a number of slots; null takes it away")
            })?),
        };
    }
    if let Some(give_up) = change.give_up_us {
        if give_up.is_some_and(|give_up| give_up.0 == 0) {
            return Err(ServiceError::invalid(
                "give_up_us",
                "a job waits for more than nothing; null lets it wait for ever",
            ));
        }
        place.give_up_us = give_up.map(Db);
    }
    Ok(place)
}

/// Change a team's or project's weight, limit or patience, or move it to another team.
#[utoipa::path(patch, operation_id = "change_place", path = "/places/{path}", tag = "tree", request_body = PlaceChange,
    params(("path" = String, Path, description = "its path, each / written as %2F, or its name")),
    responses((status = 200, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(path): Path<String>,
    JsonBody(change): JsonBody<PlaceChange>,
) -> Answer<Json<Place>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let found = find(
        &mut connection,
        &["team", "project"],
        "team or project",
        &path,
    )
    .await?;
    let mut changed = checked(found, &change)?;
    let at = app.clock.now();
    place::set(&mut connection, &changed, at).await?;
    if let Some(parent) = &change.parent {
        changed = move_below(&mut connection, changed, parent, at).await?;
    }
    let detail =
        json!({"weight": changed.weight, "limit": changed.slot_limit, "path": changed.path});
    audit::write(
        &mut connection,
        at,
        &who.name,
        "place.change",
        &path,
        detail,
    )
    .await?;
    app.projects.invalidate_all();
    app.feed.kick();
    let held = Yard::read(&mut connection, app.clock.now())
        .await?
        .held(&changed.path);
    Ok(Json(shown(changed, held)))
}

async fn move_below(
    connection: &mut Connection,
    place: place::Place,
    parent: &str,
    at: Moment,
) -> Answer<place::Place> {
    let parent = match parent {
        "" => place::root(connection).await?,
        path => find(connection, &["team"], "team", path)
            .await
            .map_err(|failure| failure.field("parent"))?,
    };
    if below(&place.path, &parent.path) {
        let said = format!(
            "{} is {} or lies below it: a team cannot lie in itself",
            parent.path, place.path
        );
        return Err(ServiceError::invalid("parent", said).mend("choose a team outside it"));
    }
    match place::move_below(connection, &place, &parent, at).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let said = format!(
                "{:?} has something called {:?} already",
                parent.path, place.name
            );
            Err(ServiceError::taken(said).field("parent"))
        }
        other => Ok(other?),
    }
}

/// Remove a team or project that holds nothing: no places, pools or jobs.
#[utoipa::path(delete, operation_id = "remove_place", path = "/places/{path}", tag = "tree",
    params(("path" = String, Path, description = "its path, each / written as %2F, or its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(path): Path<String>,
) -> Answer<StatusCode> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let found = find(
        &mut connection,
        &["team", "project"],
        "team or project",
        &path,
    )
    .await?;
    let contents = place::contents(&mut connection, &found).await?;
    let parts = [
        (contents.places, "place", "remove them first"),
        (contents.pools, "pool", "give them to another owner first"),
        (
            contents.jobs,
            "job",
            "its history would lose its place; set its limit to 0 to close it",
        ),
    ];
    if let Some((count, noun, mend)) = parts.into_iter().find(|(count, ..)| *count > 0) {
        let s = if count == 1 { "" } else { "s" };
        let said = format!("{} has {count} {noun}{s}", found.path);
        return Err(ServiceError::conflict("not-empty", "It is not empty", said).mend(mend));
    }
    let at = app.clock.now();
    place::remove(&mut connection, &found, at).await?;
    audit::write(
        &mut connection,
        at,
        &who.name,
        "place.remove",
        &found.path,
        json!({}),
    )
    .await?;
    app.projects.invalidate_all();
    app.feed.kick();
    Ok(StatusCode::NO_CONTENT)
}
