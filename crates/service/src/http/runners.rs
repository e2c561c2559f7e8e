//! Runners, as people see them.

use super::answer::{Answer, Failure};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::yard;
use crate::app::App;
use axum::Json;
use axum::extract::{Path, State};
use pennine_core::id::{RunnerId, Short};
use pennine_core::lifecycle::runner::{RunnerEvent, Wish};
use pennine_store::runner::{self, Executing};
use pennine_store::{Connection, audit};
use pennine_wire::{Page, Problem, Runner, RunnerJob};
use serde::Deserialize;
use serde_json::json;
use utoipa::ToSchema;
use uuid::Uuid;

fn shown(row: &runner::Runner, executing: &[Executing]) -> Runner {
    let mine = executing
        .iter()
        .filter(|one| one.runner_id == row.id)
        .map(|one| RunnerJob {
            job: Short::Job.name(one.job_number),
            title: one.title.clone(),
            project: one.project.clone(),
            started_at: one.started_at.map(|at| at.0),
        });
    Runner {
        id: row.id.0,
        short: Short::Runner.name(row.number),
        name: row.name.clone(),
        pool: row.pool.clone(),
        state: yard::shown_state(row),
        since: row.state_since.0,
        why: row.state_why.clone(),
        wish: row.wish.0,
        slots: row.slots(),
        used: row.used(),
        labels: row.labels.clone(),
        pool_labels: row.pool_labels.clone(),
        facts: row.facts.0.clone(),
        version: row.program.clone(),
        seen_at: row.seen_at.map(|at| at.0),
        executing: mine.collect(),
        created_at: row.created_at.0,
    }
}

/// The runners that are not retired, by pool and name.
#[utoipa::path(get, operation_id = "list_runners", path = "/runners", tag = "yard", responses((status = 200, body = Page<Runner>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Runner>>> {
    let mut connection = app.store.get().await?;
    let rows = runner::list(&mut connection, None).await?;
    let executing = runner::executing(&mut connection).await?;
    Ok(Json(Page {
        items: rows.iter().map(|row| shown(row, &executing)).collect(),
        next: None,
    }))
}

async fn find(connection: &mut Connection, text: &str) -> Answer<RunnerId> {
    let found = runner::find(
        connection,
        text.parse::<Uuid>().ok(),
        Short::Runner.number(text),
        text,
    )
    .await?;
    match found.as_slice() {
        [] => Err(Failure::unknown("runner", text)),
        [one] => Ok(*one),
        _ => {
            let rows = runner::list(connection, Some(&found)).await?;
            let choices: Vec<String> = rows
                .iter()
                .map(|row| format!("{} (pool {})", Short::Runner.name(row.number), row.pool))
                .collect();
            Err(Failure::ambiguous("runner", text, &choices))
        }
    }
}

async fn one(connection: &mut Connection, id: RunnerId) -> Answer<Json<Runner>> {
    let rows = runner::list(connection, Some(&[id])).await?;
    let executing = runner::executing(connection).await?;
    let row = rows
        .first()
        .ok_or_else(|| Failure::unknown("runner", &id.to_string()))?;
    Ok(Json(shown(row, &executing)))
}

/// One runner, by id, short name or name.
#[utoipa::path(get, operation_id = "show_runner", path = "/runners/{runner}", tag = "yard",
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Runner), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    _: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Runner>> {
    let mut connection = app.store.get().await?;
    let id = find(&mut connection, &text).await?;
    one(&mut connection, id).await
}

/// What a runner is wanted to do.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewWish {
    wish: Wish,
}

/// Say what a runner is wanted to do: `work`, `pause` or `drain`.
#[utoipa::path(put, operation_id = "set_runner_wish", path = "/runners/{runner}/wish", tag = "yard", request_body = NewWish,
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Runner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn wish(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(new): JsonBody<NewWish>,
) -> Answer<Json<Runner>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let id = find(&mut connection, &text).await?;
    let now = app.clock.now();
    if !runner::set_wish(&mut connection, id, new.wish, now).await? {
        let said = format!("{text} has not joined yet, or is retired");
        return Err(Failure::conflict(
            "wrong-state",
            "The runner cannot do that",
            said,
        ));
    }
    if let Some(row) = runner::list(&mut connection, Some(&[id]))
        .await?
        .first()
        .filter(|row| row.state.is_connected())
    {
        let seen = RunnerEvent::Seen {
            wish: new.wish,
            used: 0,
            slots: row.slots().max(1),
        };
        if let Ok(to) = row.state.after(seen) {
            let why = format!("{} said so: {}", who.name, new.wish);
            runner::set_state(&mut connection, id, row.state.0, to, &why, now).await?;
        }
    }
    audit::write(
        &mut connection,
        now,
        &who.name,
        "runner.wish",
        &text,
        json!({"wish": new.wish}),
    )
    .await?;
    app.feed.kick();
    app.polls.ring(id);
    one(&mut connection, id).await
}
