//! Machines.

use super::answer::Answer;
use super::auth::{Principal, Role};
use super::body::{JsonBody, Params};
use super::supply::find as find_pool;
use crate::app::App;
use crate::error::ServiceError;
use crate::{secret, supply};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::capacity::Money;
use pennine_core::id::{MachineId, RunnerId, Short};
use pennine_core::lifecycle::machine::{MachineEvent, MachineState};
use pennine_core::lifecycle::runner::Wish;
use pennine_core::time::Moment;
use pennine_store::machine::{self, Detail, NewMachine};
use pennine_store::{Connection, attempt, audit, runner, supplier};
use pennine_wire::{Machine, MachineConsole, NewMachines, Page, Problem, StopMachine};
use serde::Deserialize;
use serde_json::json;
use std::time::Duration;
use utoipa::IntoParams;

/// Machines in one answer.
const PAGE: i64 = 200;
/// The most machines that are started by hand at once.
const BY_HAND: u32 = 100;

fn shown(row: &machine::Machine, now: Moment) -> Machine {
    let until = row.ended_at.map_or(now, |at| at.0);
    let cost =
        u128::from(row.price().0) * until.since(row.ordered_at.0).as_micros() / 3_600_000_000;
    Machine {
        id: row.id.0,
        short: row.short(),
        name: row.name.clone(),
        pool: row.pool.clone(),
        supplier: row.supplier.clone(),
        state: row.state.0,
        since: row.state_since.0,
        why: row.state_why.clone(),
        runner: row.runner_id.0,
        runner_short: Short::Runner.name(row.runner_number),
        single_use: row.single_use,
        price: row.price(),
        cost: Money(u64::try_from(cost).unwrap_or(u64::MAX)),
        ordered_at: row.ordered_at.0,
        ordered_by: row.ordered_by.clone(),
        joined_at: row.joined_at.map(|at| at.0),
        released_at: row.released_at.map(|at| at.0),
        ended_at: row.ended_at.map(|at| at.0),
        failed: row.failed,
        zone: row.zone.clone(),
        reference: row.reference.clone(),
    }
}

async fn find(connection: &mut Connection, text: &str) -> Answer<machine::Machine> {
    machine::find(connection, text).await?.ok_or_else(|| {
        ServiceError::unknown("machine", text)
            .mend("pennine machine list --all shows those on record")
    })
}

/// Which machines.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct Which {
    /// Of this pool alone.
    pool: Option<String>,
    /// In these states, with commas between; those that exist when not given.
    state: Option<String>,
    /// The `next` of the page before.
    cursor: Option<String>,
}

/// Machines, newest first: those that exist, unless others are asked for.
#[utoipa::path(get, operation_id = "list_machines", path = "/machines", tag = "machines", params(Which),
    responses((status = 200, body = Page<Machine>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    _: Principal,
    Params(which): Params<Which>,
) -> Answer<Json<Page<Machine>>> {
    let mut connection = app.store.get().await?;
    let pool = match &which.pool {
        None => None,
        Some(name) => Some(find_pool(&mut connection, name).await?.pool.id.0),
    };
    let states = match &which.state {
        None => MachineState::ALL
            .iter()
            .copied()
            .filter(|state| state.exists())
            .collect(),
        Some(text) => text
            .split(',')
            .map(|word| word.trim().parse())
            .collect::<Result<Vec<MachineState>, String>>()
            .map_err(|said| ServiceError::invalid("state", said))?,
    };
    let before = match &which.cursor {
        None => i64::MAX,
        Some(text) => text
            .parse()
            .map_err(|_| ServiceError::invalid("cursor", "the cursor is not one of this list's"))?,
    };
    let mut rows = machine::list(&mut connection, pool, &states, before, PAGE + 1).await?;
    let page = usize::try_from(PAGE).unwrap_or(usize::MAX);
    let more = rows.len() > page;
    rows.truncate(page);
    let next = rows
        .last()
        .filter(|_| more)
        .map(|last| last.number.to_string());
    let now = app.clock.now();
    Ok(Json(Page {
        items: rows.iter().map(|row| shown(row, now)).collect(),
        next,
    }))
}

/// One machine.
#[utoipa::path(get, operation_id = "show_machine", path = "/machines/{machine}", tag = "machines",
    params(("machine" = String, Path, description = "its id, short name (mc-12) or name")),
    responses((status = 200, body = Machine), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    _: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Machine>> {
    let mut connection = app.store.get().await?;
    let found = find(&mut connection, &text).await?;
    Ok(Json(shown(&found, app.clock.now())))
}

/// The end of what a machine printed while it came up, as far as its supplier can say.
#[utoipa::path(get, operation_id = "show_machine_console", path = "/machines/{machine}/console", tag = "machines",
    params(("machine" = String, Path, description = "its id, short name (mc-12) or name")),
    responses((status = 200, body = MachineConsole), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn console(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<MachineConsole>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let found = find(&mut connection, &text).await?;
    if !found.state.0.exists() || !found.console.is_empty() {
        let (text, live) = (found.console, false);
        return Ok(Json(MachineConsole { text, live }));
    }
    let row = supplier::find(&mut connection, &found.supplier).await?;
    drop(connection);
    let row = row.ok_or_else(|| ServiceError::unknown("supplier", &found.supplier))?;
    let asked = supply::open(&app, &row).map_err(|said| {
        ServiceError::conflict("supplier-unusable", "The supplier cannot be asked", said)
    })?;
    let text = supply::console(asked.as_ref(), found.id.0).await;
    Ok(Json(MachineConsole { text, live: true }))
}

/// Start machines by hand. Like any others they are released when they were idle for the pool's dwell and nobody wants
/// them.
#[utoipa::path(post, operation_id = "start_machines", path = "/pools/{pool}/machines", tag = "machines", request_body = NewMachines,
    params(("pool" = String, Path, description = "its name")),
    responses((status = 201, body = Page<Machine>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn start(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(new): JsonBody<NewMachines>,
) -> Answer<(StatusCode, Json<Page<Machine>>)> {
    who.require(Role::Operator)?;
    let count = new.count.unwrap_or(1);
    if !(1..=BY_HAND).contains(&count) {
        let said = format!("1 to {BY_HAND} machines at once");
        return Err(ServiceError::invalid("count", said));
    }
    let mut connection = app.store.get().await?;
    let pool = find_pool(&mut connection, &name).await?;
    let Some(policy) = pool.supply() else {
        let said = format!("{name} gets no machines from a supplier: people bring them");
        return Err(
            ServiceError::conflict("no-supplier", "The pool makes no machines", said).mend(format!(
                "pennine pool set {name} --supplier NAME, or add a machine with: pennine ticket add --pool {name}"
            )),
        );
    };
    let row = supplier::find(&mut connection, &policy.supplier)
        .await?
        .ok_or_else(|| ServiceError::unknown("supplier", &policy.supplier))?;
    let all = MachineState::ALL.iter().copied();
    let existing: Vec<_> = all.filter(|state| state.exists()).collect();
    let id = pool.pool.id.0;
    let there = machine::list(&mut connection, Some(id), &existing, i64::MAX, i64::MAX).await?;
    let there = u32::try_from(there.len()).unwrap_or(u32::MAX);
    if there.saturating_add(count) > policy.ceiling {
        let said = format!(
            "{name} has {there} machines, and its ceiling is {}",
            policy.ceiling
        );
        return Err(
            ServiceError::conflict("ceiling-reached", "There are enough machines", said).mend(
                format!("raise it with: pennine pool set {name} --ceiling N"),
            ),
        );
    }
    let now = app.clock.now();
    let maker = supply::maker(&row);
    let new: Vec<NewMachine> = (0..count)
        .map(|_| {
            let machine = MachineId(app.fresh_id());
            NewMachine {
                id: machine,
                runner: RunnerId(app.fresh_id()),
                pool: id,
                supplier: row.id.0,
                price: pool.price(),
                single_use: policy.single_use,
                ticket: app.fresh_id(),
                secret_hash: secret::hash(&app.lockbox.ticket(machine)),
                expires: now + maker.boot_limit + Duration::from_secs(60),
            }
        })
        .collect();
    let why = format!("{} started it", who.name);
    let made = machine::order(&mut connection, &new, &who.name, &why, now).await?;
    let names: Vec<&str> = made.iter().map(|one| one.name.as_str()).collect();
    let detail = json!({"machines": names});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "machine.start",
        &name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok((
        StatusCode::CREATED,
        Json(Page {
            items: made.iter().map(|row| shown(row, now)).collect(),
            next: None,
        }),
    ))
}

/// Stop a machine: it finishes its jobs and is removed; told to force it, at once. Its pool may order another if it is
/// wanted.
#[utoipa::path(post, operation_id = "stop_machine", path = "/machines/{machine}/stop", tag = "machines", request_body = StopMachine,
    params(("machine" = String, Path, description = "its id, short name (mc-12) or name")),
    responses((status = 200, body = Machine), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn stop(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(how): JsonBody<StopMachine>,
) -> Answer<Json<Machine>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let found = find(&mut connection, &text).await?;
    let now = app.clock.now();
    if !found.state.0.exists() {
        let said = format!("{} is {} already", found.name, found.state.0);
        return Err(ServiceError::conflict(
            "wrong-state",
            "The machine has ended",
            said,
        ));
    }
    let busy = attempt::for_runner(&mut connection, found.runner_id.0).await?;
    if found.state.0 == MachineState::Joined && !busy.is_empty() && !how.force {
        runner::set_wish(&mut connection, found.runner_id.0, Wish::Drain, now).await?;
    } else {
        let why = format!("{} stopped it", who.name);
        let event = MachineEvent::Release;
        machine::step(
            &mut connection,
            found.id.0,
            event,
            &why,
            &Detail::default(),
            now,
        )
        .await?;
    }
    let detail = json!({"force": how.force, "jobs": busy.len()});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "machine.stop",
        &found.name,
        detail,
    )
    .await?;
    app.feed.kick();
    let found = find(&mut connection, &found.id.to_string()).await?;
    Ok(Json(shown(&found, now)))
}
