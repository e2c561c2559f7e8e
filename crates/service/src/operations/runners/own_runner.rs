//! What somebody at the machine asks and says of its runner, with the runner's own credential.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::runners::runner::{retire_one, set_desired_state};
use crate::operations::transaction::commit;
use crate::secret::{self, Purpose};
use crate::views;
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_store::{audit, credential, runner};
use pennine_wire::runner_protocol::{LeaveRequest, NewCredential};
use pennine_wire::{ChangedRunner, Retirement, Runner};
use serde_json::json;

/// Offers another credential to the runner. The one that it shows is worth something until it shows the new one, so that an
/// answer that is lost, or a machine that fails before it has written the new one down, locks nobody out.
///
/// # Errors
/// A conflict when another credential was taken into use meanwhile.
pub async fn renew_credential(
    app: &App,
    runner: RunnerId,
    name: &str,
    present_hash: &[u8],
) -> Result<NewCredential> {
    let fresh = secret::fresh(Purpose::Credential);
    commit(app, async |connection| {
        let next = secret::hash(&fresh);
        if !credential::offer_credential(connection, runner, present_hash, &next).await? {
            return Err(ServiceError::conflict(
                "wrong-state",
                "The credential was replaced meanwhile",
                "another credential was taken into use while this one asked for its successor",
            ));
        }
        let now = app.clock.now();
        let detail = json!({});
        audit::write(
            connection,
            now,
            name,
            "runner.renew-credential",
            name,
            detail,
        )
        .await?;
        Ok(NewCredential { credential: fresh })
    })
    .await
}

/// Sets what somebody at the machine wants of its runner.
pub async fn request_state(
    app: &App,
    runner: RunnerId,
    name: &str,
    desired_state: DesiredState,
) -> Result<Runner> {
    let by = format!("somebody at {name}");
    set_desired_state(app, runner, name, desired_state, &by).await
}

/// Somebody at the machine takes its runner out for good. Nothing else than its credential is needed for it.
pub async fn leave(
    app: &App,
    runner: RunnerId,
    name: &str,
    sent: &LeaveRequest,
) -> Result<ChangedRunner> {
    if sent.used_up {
        return leave_used_up(app, runner).await;
    }
    let retirement = Retirement {
        force: sent.force,
        // A machine that goes away does so whatever is lost by it; the answer says what is.
        accept_losses: true,
        preview: false,
    };
    let by = format!("somebody at {name}");
    retire_one(app, runner, retirement, &by).await
}

/// A single-use runner has done what it was for. Nobody loses by it.
async fn leave_used_up(app: &App, id: RunnerId) -> Result<ChangedRunner> {
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    runner::retire(&mut connection, id, "its one job is done", now).await?;
    app.runner_cache.runner_gone(id);
    app.feed.kick();
    let runner = views::runners::runner::one(&mut connection, id).await?;
    Ok(ChangedRunner {
        runner,
        done: true,
        losses: Vec::new(),
        ends: Vec::new(),
    })
}
