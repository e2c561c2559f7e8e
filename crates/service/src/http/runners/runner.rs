//! Runners, as people see them.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::{JsonBody, Params};
use crate::operations::runners::runner::NewDesiredState;
use crate::settings_version::ExpectedVersion;
use crate::views::runners::runner::RunnerParams;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{ChangedRunner, Page, Problem, Retirement, Runner, RunnerChange};

/// The runners that are not retired, by pool and name.
#[utoipa::path(get, operation_id = "list_runners", path = "/runners", tag = "yard", params(RunnerParams),
    responses((status = 200, body = Page<Runner>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(which): Params<RunnerParams>,
) -> Answer<Json<Page<Runner>>> {
    Ok(Json(views::runners::runner::list(&app, &who, which).await?))
}

/// One runner, by id, short name or name.
#[utoipa::path(get, operation_id = "show_runner", path = "/runners/{runner}", tag = "yard",
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Runner), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Runner>> {
    Ok(Json(views::runners::runner::show(&app, &who, &text).await?))
}

/// Say what a runner is wanted to do: `work`, `pause` or `drain`.
#[utoipa::path(put, operation_id = "set_runner_desired_state", path = "/runners/{runner}/desired-state", tag = "yard", request_body = NewDesiredState,
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Runner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn set_desired_state(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(new): JsonBody<NewDesiredState>,
) -> Answer<Json<Runner>> {
    Ok(Json(
        operations::runners::runner::request_state(&app, &who, &text, new).await?,
    ))
}

/// Change a runner: its name, description, slots, labels, facts, variables and folders for programs. Where jobs would be
/// left that nothing can run, it is refused with who they are, unless told to go on.
#[utoipa::path(patch, operation_id = "change_runner", path = "/runners/{runner}", tag = "yard", request_body = RunnerChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = ChangedRunner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(text): Path<String>,
    JsonBody(change): JsonBody<RunnerChange>,
) -> Answer<Json<ChangedRunner>> {
    Ok(Json(
        operations::runners::runner::change(&app, &who, &text, change, &expected).await?,
    ))
}

/// Retire a runner permanently; its record is kept. Refused while it executes jobs, unless the request ends them and
/// retries them elsewhere, and when jobs would remain that no runner can run, unless the request confirms that.
#[utoipa::path(post, operation_id = "retire_runner", path = "/runners/{runner}/retire", tag = "yard", request_body = Retirement,
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = ChangedRunner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn retire(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(retirement): JsonBody<Retirement>,
) -> Answer<Json<ChangedRunner>> {
    Ok(Json(
        operations::runners::runner::retire(&app, &who, &text, retirement).await?,
    ))
}
