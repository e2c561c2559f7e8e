//! Maintenance windows.

use super::answer::{Answer, created};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::runners;
use crate::app::App;
use crate::error::ServiceError;
use crate::validation::check_why;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::id::{MaintenanceId, Short};
use pennine_core::time::Moment;
use pennine_store::maintenance::{self, New};
use pennine_store::{Connection, audit, pool};
use pennine_wire::{Maintenance, NewMaintenance, Page, Problem};
use serde_json::json;
use std::time::Duration;

const LONGEST: Duration = Duration::from_secs(90 * 86_400);
/// How far ahead one can be planned.
const AHEAD: Duration = Duration::from_secs(366 * 86_400);

fn shown(row: &maintenance::Maintenance, now: Moment) -> Maintenance {
    let of = |is: bool| is.then(|| row.of.clone());
    Maintenance {
        name: row.short(),
        pool: of(row.pool_id.is_some()),
        runner: of(row.runner_id.is_some()),
        from: row.from_at.0,
        until: row.until_at.0,
        on: row.is_on(now),
        why: row.why.clone(),
        by: row.created_by.clone(),
    }
}

async fn all(connection: &mut Connection, now: Moment) -> Answer<Vec<Maintenance>> {
    let rows = maintenance::open(connection, now).await?;
    Ok(rows.iter().map(|row| shown(row, now)).collect())
}

/// Maintenance that is on or to come, the earliest first.
#[utoipa::path(get, operation_id = "list_maintenance", path = "/maintenance", tag = "yard", responses((status = 200, body = Page<Maintenance>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Maintenance>>> {
    let mut connection = app.store.get().await?;
    let items = all(&mut connection, app.clock.now()).await?;
    Ok(Json(Page { items, next: None }))
}

/// Plan a stretch in which a pool, or one runner, takes nothing new. What runs goes on.
#[utoipa::path(post, operation_id = "add_maintenance", path = "/maintenance", tag = "yard", request_body = NewMaintenance,
    responses((status = 201, body = Maintenance), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewMaintenance>,
) -> Answer<(StatusCode, Json<Maintenance>)> {
    who.require(Role::Operator)?;
    check_why(&new.why)?;
    let length = Duration::from(new.length_us);
    if length.is_zero() || length > LONGEST {
        let said = "maintenance lasts more than nothing and at most 90 days";
        return Err(ServiceError::invalid("length_us", said));
    }
    let now = app.clock.now();
    // What began before now begins now: nothing is said of the past.
    let from = new.from.unwrap_or(now).max(now);
    if from.since(now) > AHEAD {
        let said = "maintenance is planned at most a year ahead";
        return Err(ServiceError::invalid("from", said));
    }
    let mut connection = app.store.get().await?;
    let (pool, runner) = match (&new.pool, &new.runner) {
        (Some(name), None) => {
            let found = pool::find(&mut connection, name).await?;
            let found = found.ok_or_else(|| ServiceError::unknown("pool", name).field("pool"))?;
            (Some(found.pool.id.0), None)
        }
        (None, Some(name)) => {
            let found = runners::find(&mut connection, name).await;
            (
                None,
                Some(found.map_err(|failure| failure.field("runner"))?),
            )
        }
        _ => {
            let said = "maintenance is of one pool or of one runner: name one of them";
            return Err(ServiceError::invalid("pool", said));
        }
    };
    let id = MaintenanceId(app.fresh_id());
    let row = New {
        id,
        pool,
        runner,
        from,
        until: from + length,
        why: &new.why,
        by: &who.name,
        at: now,
    };
    maintenance::insert(&mut connection, row).await?;
    let rows = maintenance::open(&mut connection, now).await?;
    let made = rows
        .iter()
        .find(|row| row.id.0 == id)
        .map(|row| shown(row, now));
    let made = made.ok_or_else(|| ServiceError::unknown("maintenance", &id.to_string()))?;
    let detail = json!({"of": new.pool.or(new.runner), "from": made.from, "until": made.until, "why": made.why});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "maintenance.add",
        &made.name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(created(made))
}

/// End maintenance now, or call it off.
#[utoipa::path(post, operation_id = "end_maintenance", path = "/maintenance/{maintenance}/end", tag = "yard",
    params(("maintenance" = String, Path, description = "its short name (m-3)")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn end(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<StatusCode> {
    who.require(Role::Operator)?;
    let unknown = || ServiceError::unknown("maintenance", &text);
    let number = Short::Maintenance.number(&text).ok_or_else(unknown)?;
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    if !maintenance::end(&mut connection, number, &who.name, now).await? {
        return Err(unknown().mend("pennine maintenance list shows what is on or to come"));
    }
    audit::write(
        &mut connection,
        now,
        &who.name,
        "maintenance.end",
        &text,
        json!({}),
    )
    .await?;
    app.feed.kick();
    Ok(StatusCode::NO_CONTENT)
}
