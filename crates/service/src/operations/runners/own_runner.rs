//! Operations of a machine on its own runner, with the runner's credential.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::runners::runner::{Requester, of_machine, retire_one, set_desired_state};
use crate::operations::transaction::commit;
use crate::secret::{self, Purpose};
use crate::views;
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_store::{audit, credential, runner};
use pennine_wire::runner_protocol::{LeaveRequest, NewCredential};
use pennine_wire::{ChangedRunner, Retirement, Runner};
use serde_json::json;

/// Issues the runner's next credential. The present one stays valid until the new one is first used, so that neither a lost answer nor a
/// crash before the new one is stored locks the runner out.
///
/// # Errors
/// A conflict if another credential came into use in the meantime.
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
                "another credential came into use while this one was being renewed",
            ));
        }
        let now = app.clock.now();
        let permit = of_machine(connection, runner, name).await?;
        let detail = json!({});
        audit::write(
            connection,
            now,
            &permit,
            "runner.renew-credential",
            name,
            detail,
        )
        .await?;
        Ok(NewCredential { credential: fresh })
    })
    .await
}

/// Sets the desired state of the machine's runner.
pub async fn request_state(
    app: &App,
    runner: RunnerId,
    name: &str,
    desired_state: DesiredState,
) -> Result<Runner> {
    set_desired_state(app, runner, name, desired_state, Requester::Machine(name)).await
}

/// Retires the machine's runner. Its credential is all that is needed.
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
        // The machine leaves in any case; the answer lists the losses.
        accept_losses: true,
        preview: false,
    };
    let by = format!("a user on {name}");
    let permit = of_machine(&mut *app.store.runners().await?, runner, by).await?;
    retire_one(app, runner, retirement, &permit).await
}

/// Retires a single-use runner whose job is done.
async fn leave_used_up(app: &App, id: RunnerId) -> Result<ChangedRunner> {
    let mut connection = app.store.runners().await?;
    let now = app.clock.now();
    runner::retire(&mut connection, id, "its job is finished", now).await?;
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
