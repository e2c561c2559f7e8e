//! Alerts: what people are told of.

use super::answer::Answer;
use super::auth::{Principal, Role};
use super::body::{JsonBody, Params};
use crate::app::App;
use crate::error::ServiceError;
use axum::Json;
use axum::extract::{Path, State};
use pennine_core::alert::Thresholds;
use pennine_core::id::Short;
use pennine_core::lifecycle::alert::AlertState;
use pennine_store::alert::{self, Alert as Row};
use pennine_store::{Connection, audit};
use pennine_wire::{Alert, Page, Problem, ThresholdsChange};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

/// Alerts in one answer.
const PAGE: i64 = 100;

fn shown(row: Row) -> Option<Alert> {
    Some(Alert {
        name: Short::Alert.name(row.number),
        kind: row.kind.0,
        state: row.state.0,
        urgent: row.kind.0.urgent(),
        said: row.said,
        about: serde_json::from_value(row.about).unwrap_or_default(),
        since: row.since.0,
        raised_at: row.raised_at?.0,
        ended_at: row.ended_at.map(|at| at.0),
        seen_by: row.seen_by,
        seen_at: row.seen_at.map(|at| at.0),
    })
}

/// What people are told of now: what is urgent first, then what is so for longest.
pub async fn now(connection: &mut Connection) -> pennine_store::Result<Vec<Alert>> {
    let open = alert::open(connection).await?;
    let mut all: Vec<Alert> = open.into_iter().filter_map(shown).collect();
    all.sort_by_key(|one| (!one.urgent, one.seen_at.is_some(), one.kind, one.since));
    Ok(all)
}

/// Which alerts are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct AlertParams {
    /// Those that are over too, the latest first; those that people are told of now when not given.
    #[serde(default)]
    all: bool,
    /// The cursor of the page before.
    after: Option<String>,
}

/// The alerts.
#[utoipa::path(get, operation_id = "list_alerts", path = "/alerts", tag = "now", params(AlertParams), responses((status = 200, body = Page<Alert>)))]
pub async fn list(
    State(app): State<App>,
    _: Principal,
    Params(params): Params<AlertParams>,
) -> Answer<Json<Page<Alert>>> {
    let mut connection = app.store.get().await?;
    if !params.all {
        let items = now(&mut connection).await?;
        return Ok(Json(Page { items, next: None }));
    }
    let before = match &params.after {
        None => None,
        Some(text) => Some(number(text).map_err(|failure| failure.field("after"))?),
    };
    let rows = alert::told(&mut connection, before, PAGE + 1).await?;
    let more = rows.len() as i64 > PAGE;
    let page = usize::try_from(PAGE).unwrap_or(usize::MAX);
    let items: Vec<Alert> = rows.into_iter().take(page).filter_map(shown).collect();
    let last = items.last().map(|one| one.name.clone());
    Ok(Json(Page {
        items,
        next: last.filter(|_| more),
    }))
}

/// From when on people are told of what is not told at once.
#[utoipa::path(get, operation_id = "show_thresholds", path = "/alerts/thresholds", tag = "now", responses((status = 200, body = Thresholds)))]
pub async fn thresholds(State(app): State<App>, _: Principal) -> Answer<Json<Thresholds>> {
    let mut connection = app.store.get().await?;
    Ok(Json(alert::thresholds(&mut connection).await?))
}

/// Change from when on people are told.
#[utoipa::path(patch, operation_id = "change_thresholds", path = "/alerts/thresholds", tag = "now", request_body = ThresholdsChange,
    responses((status = 200, body = Thresholds), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change_thresholds(
    State(app): State<App>,
    who: Principal,
    JsonBody(change): JsonBody<ThresholdsChange>,
) -> Answer<Json<Thresholds>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let changed = change.over(alert::thresholds(&mut connection).await?);
    changed
        .check()
        .map_err(|(field, said)| ServiceError::invalid(field, said))?;
    alert::set_thresholds(&mut connection, changed).await?;
    let (at, detail) = (app.clock.now(), json!(changed));
    audit::write(
        &mut connection,
        at,
        &who.name,
        "alert.thresholds",
        "alerts",
        detail,
    )
    .await?;
    Ok(Json(changed))
}

fn number(text: &str) -> Answer<i64> {
    Short::Alert
        .number(text)
        .ok_or_else(|| ServiceError::unknown("alert", text))
}

/// Say that somebody looks at an alert: it is shown more quietly from then on.
#[utoipa::path(post, operation_id = "see_alert", path = "/alerts/{alert}/see", tag = "now",
    params(("alert" = String, Path, description = "its short name (a-12)")),
    responses((status = 200, body = Alert), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn see(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Alert>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let number = number(&name)?;
    let find = async |connection: &mut Connection| -> Answer<Row> {
        let found = alert::numbered(connection, number).await?;
        found.ok_or_else(|| ServiceError::unknown("alert", &name))
    };
    let row = find(&mut connection).await?;
    if row.state.0 == AlertState::Over {
        let said = format!("{name} is over");
        return Err(ServiceError::conflict(
            "wrong-state",
            "There is nothing to look at",
            said,
        ));
    }
    let now = app.clock.now();
    // Somebody was first: that is no error.
    if alert::see(&mut connection, row.id, &who.name, now).await? {
        let detail = json!({"said": row.said});
        audit::write(&mut connection, now, &who.name, "alert.see", &name, detail).await?;
        app.feed.kick();
    }
    let row = find(&mut connection).await?;
    shown(row)
        .map(Json)
        .ok_or_else(|| ServiceError::unknown("alert", &name))
}
