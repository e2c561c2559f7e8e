//! What somebody at the machine asks and says of its runner, with the runner's own credential.

use super::answer::Answer;
use super::body::JsonBody;
use super::runner_protocol::Caller;
use super::runners;
use crate::app::App;
use crate::error::ServiceError;
use crate::secret::{self, Purpose};
use axum::Json;
use axum::extract::State;
use pennine_core::id::RunnerId;
use pennine_store::{audit, credential, runner};
use pennine_wire::runner_protocol::{Leave, Renewed, WishHere};
use pennine_wire::{ChangedRunner, Retirement, Runner};
use serde_json::json;

/// How the service sees the runner that asks.
pub async fn me(State(app): State<App>, Caller(known, _): Caller) -> Answer<Json<Runner>> {
    let mut connection = app.store.get().await?;
    runners::one(&mut connection, known.id.0).await
}

/// Another credential for the runner that asks. The one that it shows is worth something until it shows the new one, so
/// that an answer that is lost, or a machine that fails before it has written the new one down, locks nobody out.
pub async fn renew(State(app): State<App>, Caller(known, hash): Caller) -> Answer<Json<Renewed>> {
    let fresh = secret::fresh(Purpose::Credential);
    let mut connection = app.store.get().await?;
    let next = secret::hash(&fresh);
    if !credential::offer_credential(&mut connection, known.id.0, &hash, &next).await? {
        return Err(ServiceError::conflict(
            "wrong-state",
            "The credential was replaced meanwhile",
            "another credential was taken into use while this one asked for its successor",
        ));
    }
    let (now, detail) = (app.clock.now(), json!({}));
    audit::write(
        &mut connection,
        now,
        &known.name,
        "runner.renew-credential",
        &known.name,
        detail,
    )
    .await?;
    Ok(Json(Renewed { credential: fresh }))
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
    if sent.used_up {
        return leave_used_up(&app, known.id.0).await;
    }
    if sent.used_up {
        return leave_used_up(&app, known.id.0).await;
    }
    let retirement = Retirement {
        force: sent.force,
        // A machine that goes away does so whatever is lost by it; the answer says what is.
        accept_losses: true,
        preview: false,
    };
    runners::retire_one(&app, known.id.0, retirement, &by).await
}

/// A single-use runner has done what it was for. Nobody loses by it.
async fn leave_used_up(app: &App, id: RunnerId) -> Answer<Json<ChangedRunner>> {
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    runner::retire(&mut connection, id, "its one job is done", now).await?;
    app.memory.runner_gone(id);
    app.feed.kick();
    let Json(runner) = runners::one(&mut connection, id).await?;
    Ok(Json(ChangedRunner {
        runner,
        done: true,
        losses: Vec::new(),
        ends: Vec::new(),
    }))
}
