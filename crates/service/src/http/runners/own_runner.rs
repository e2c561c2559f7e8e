//! Routes for a machine's own runner, with the runner's credential.

use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::http::runners::protocol::AuthenticatedRunner;
use crate::operations::runners::own_runner;
use crate::views;
use axum::Json;
use axum::extract::State;
use pennine_wire::runner_protocol::{LeaveRequest, NewCredential, NewDesiredStateHere};
use pennine_wire::{ChangedRunner, Runner};

/// How the service sees the runner that asks.
pub async fn me(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
) -> Answer<Json<Runner>> {
    let mut connection = app.store.runners().await?;
    let runner = views::runners::runner::one(&mut connection, known.id.0).await?;
    Ok(Json(runner))
}

/// Another credential for the runner that asks.
pub async fn renew(
    State(app): State<App>,
    AuthenticatedRunner(known, hash): AuthenticatedRunner,
) -> Answer<Json<NewCredential>> {
    let renewed = own_runner::renew_credential(&app, known.id.0, &known.name, &hash).await?;
    Ok(Json(renewed))
}

/// Sets the desired state of the machine's own runner.
pub async fn set_desired_state(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    JsonBody(sent): JsonBody<NewDesiredStateHere>,
) -> Answer<Json<Runner>> {
    let runner =
        own_runner::request_state(&app, known.id.0, &known.name, sent.desired_state).await?;
    Ok(Json(runner))
}

/// Retires the runner, at the request of a person on its machine.
pub async fn leave(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    JsonBody(sent): JsonBody<LeaveRequest>,
) -> Answer<Json<ChangedRunner>> {
    let changed = own_runner::leave(&app, known.id.0, &known.name, &sent).await?;
    Ok(Json(changed))
}
