//! Targets.

use super::answer::{Answer, created};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::places;
use super::yard::Yard;
use crate::app::App;
use crate::error::ServiceError;
use crate::targets::standings;
use crate::validation::check_name;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::target::{Promise, Senseless, TargetStanding};
use pennine_store::target::{self, Target as Row};
use pennine_store::{Connection, Db, audit, pool};
use pennine_wire::{NewTarget, Page, Problem, Target, TargetChange};
use serde_json::json;

/// The most targets: each is looked at every few seconds.
const MOST: usize = 500;

fn shown(row: Row, standing: TargetStanding) -> Target {
    let promise = row.promise();
    Target {
        name: row.name,
        pool: row.pool,
        place: row.place,
        promise,
        said: promise.said(),
        standing,
        created_at: row.created_at.0,
        created_by: row.created_by,
    }
}

async fn read(app: &App, connection: &mut Connection, rows: Vec<Row>) -> Answer<Vec<Target>> {
    let yard = Yard::read(connection, app.clock.now()).await?;
    let all = standings(app, connection, &yard, rows).await?;
    let shown = all.into_iter().map(|(row, standing)| shown(row, standing));
    Ok(shown.collect())
}

async fn one(app: &App, connection: &mut Connection, name: &str) -> Answer<Target> {
    let row = find(connection, name).await?;
    let mut all = read(app, connection, vec![row]).await?;
    all.pop()
        .ok_or_else(|| ServiceError::unknown("target", name))
}

async fn find(connection: &mut Connection, name: &str) -> Answer<Row> {
    let rows = target::list(connection).await?;
    let found = rows.into_iter().find(|row| row.name == name);
    found.ok_or_else(|| ServiceError::unknown("target", name))
}

fn set(row: &mut Row, promise: Promise) -> Answer<()> {
    if let Err(error) = promise.check() {
        let field = match error {
            Senseless::Share => "share",
            Senseless::Within => "within_us",
            Senseless::Days => "days",
        };
        return Err(ServiceError::invalid(field, error.to_string()));
    }
    let wrong = |field: &str| ServiceError::invalid(field, "that is no such number");
    row.share = i16::try_from(promise.share.0).map_err(|_| wrong("share"))?;
    row.within_us = Db(promise.within_us);
    row.days = i32::try_from(promise.days).map_err(|_| wrong("days"))?;
    Ok(())
}

/// The targets, and how they stand.
#[utoipa::path(get, operation_id = "list_targets", path = "/targets", tag = "trends", responses((status = 200, body = Page<Target>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Target>>> {
    let mut connection = app.store.get().await?;
    let rows = target::list(&mut connection).await?;
    let items = read(&app, &mut connection, rows).await?;
    Ok(Json(Page { items, next: None }))
}

/// Add a target: a promise of how long jobs wait on a pool, or those of a team or a project, or everybody's.
#[utoipa::path(post, operation_id = "add_target", path = "/targets", tag = "trends", request_body = NewTarget,
    responses((status = 201, body = Target), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewTarget>,
) -> Answer<(StatusCode, Json<Target>)> {
    who.require(Role::Operator)?;
    check_name("name", &new.name)?;
    let mut connection = app.store.get().await?;
    let (mut pool_id, mut place_id) = (None, None);
    match (&new.pool, &new.place) {
        (Some(_), Some(_)) => {
            let said = "a target is about a pool, or about a team or project, not both";
            return Err(ServiceError::invalid("place", said));
        }
        (Some(name), None) => {
            let found = pool::find(&mut connection, name).await?;
            let found = found.ok_or_else(|| ServiceError::unknown("pool", name).field("pool"))?;
            pool_id = Some(found.pool.id);
        }
        (None, Some(path)) => {
            let kinds = ["team", "project"];
            let found = places::find(&mut connection, &kinds, "place", path).await?;
            place_id = Some(found.id);
        }
        (None, None) => {}
    }
    let there = target::list(&mut connection).await?;
    if there.iter().any(|row| row.name == new.name) {
        let said = format!("there is a target {:?} already", new.name);
        return Err(ServiceError::taken(said));
    }
    if there.len() >= MOST {
        let said = format!("there are {MOST} targets already, and no more are looked after");
        return Err(ServiceError::conflict(
            "too-many",
            "There are too many",
            said,
        ));
    }
    let now = app.clock.now();
    let mut row = Row {
        id: app.fresh_id(),
        name: new.name.clone(),
        pool_id,
        pool: None,
        place_id,
        place: None,
        share: 0,
        within_us: Db(new.within_us),
        days: 0,
        created_at: Db(now),
        created_by: who.name.clone(),
    };
    let promise = Promise {
        share: new.share,
        within_us: new.within_us,
        days: new.days,
    };
    set(&mut row, promise)?;
    target::write(&mut connection, &row, now).await?;
    let detail = json!({"promise": promise.said(), "pool": new.pool, "place": new.place});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "target.add",
        &new.name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(created(one(&app, &mut connection, &new.name).await?))
}

/// Change what a target promises.
#[utoipa::path(patch, operation_id = "change_target", path = "/targets/{target}", tag = "trends", request_body = TargetChange,
    params(("target" = String, Path, description = "its name")),
    responses((status = 200, body = Target), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<TargetChange>,
) -> Answer<Json<Target>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let mut row = find(&mut connection, &name).await?;
    let before = row.promise();
    let promise = Promise {
        share: change.share.unwrap_or(before.share),
        within_us: change.within_us.unwrap_or(before.within_us),
        days: change.days.unwrap_or(before.days),
    };
    set(&mut row, promise)?;
    let now = app.clock.now();
    target::write(&mut connection, &row, now).await?;
    let detail = json!({"promise": promise.said(), "before": before.said()});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "target.change",
        &name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(Json(one(&app, &mut connection, &name).await?))
}

/// Remove a target.
#[utoipa::path(delete, operation_id = "remove_target", path = "/targets/{target}", tag = "trends",
    params(("target" = String, Path, description = "its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<StatusCode> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let row = find(&mut connection, &name).await?;
    let now = app.clock.now();
    target::remove(&mut connection, row.id, now).await?;
    let detail = json!({"promise": row.promise().said()});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "target.remove",
        &name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(StatusCode::NO_CONTENT)
}
