//! What somebody at the machine asks and says of its runner, with the runner's own credential.

use super::answer::Answer;
use super::body::JsonBody;
use super::runner_protocol::Caller;
use super::runners;
use crate::app::App;
use axum::Json;
use axum::extract::State;
use pennine_wire::runner_protocol::{Leave, WishHere};
use pennine_wire::{ChangedRunner, Retirement, Runner};

/// How the service sees the runner that asks.
pub async fn me(State(app): State<App>, Caller(known, _): Caller) -> Answer<Json<Runner>> {
    let mut connection = app.store.get().await?;
    runners::one(&mut connection, known.id.0).await
}

/// What somebody at the machine wants of its runner.
pub async fn wish(
    State(app): State<App>,
    Caller(known, _): Caller,
    JsonBody(sent): JsonBody<WishHere>,
) -> Answer<Json<Runner>> {
    let by = format!("somebody at {}", known.name);
    runners::set_wish(&app, known.id.0, &known.name, sent.wish, &by).await
}

/// Somebody at the machine takes its runner out for good. Nothing else than its credential is needed for it.
pub async fn leave(
    State(app): State<App>,
    Caller(known, _): Caller,
    JsonBody(sent): JsonBody<Leave>,
) -> Answer<Json<ChangedRunner>> {
    let by = format!("somebody at {}", known.name);
    let retirement = Retirement {
        force: sent.force,
        // A machine that goes away does so whatever is lost by it; the answer says what is.
        accept_losses: true,
        preview: false,
    };
    runners::retire_one(&app, known.id.0, retirement, &by).await
}
