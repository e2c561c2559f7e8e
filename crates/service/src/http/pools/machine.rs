//! Machines.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::{JsonBody, Params};
use crate::views::pools::machine::MachineParams;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{Machine, MachineConsole, NewMachines, Page, Problem, StopMachine};

/// Machines, newest first. By default only machines that exist.
#[utoipa::path(get, operation_id = "list_machines", path = "/machines", tag = "machines", params(MachineParams),
    responses((status = 200, body = Page<Machine>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<MachineParams>,
) -> Answer<Json<Page<Machine>>> {
    Ok(Json(views::pools::machine::list(&app, &who, which).await?))
}

/// One machine.
#[utoipa::path(get, operation_id = "show_machine", path = "/machines/{machine}", tag = "machines",
    params(("machine" = String, Path, description = "its id, short name (mc-12) or name")),
    responses((status = 200, body = Machine), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Machine>> {
    Ok(Json(views::pools::machine::show(&app, &who, &text).await?))
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
    Ok(Json(
        views::pools::machine::console(&app, &who, &text).await?,
    ))
}

/// Start machines by hand. Like other machines they are released after they were idle for the pool's dwell and no job wants
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
    Ok(created(
        operations::pools::machine::start(&app, &who, &name, new).await?,
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
    Ok(Json(
        operations::pools::machine::stop(&app, &who, &text, how).await?,
    ))
}
