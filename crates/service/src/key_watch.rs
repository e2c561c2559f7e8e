//! Notices that another key encrypts (`pennined rotate-key`), on every replica.

use crate::app::App;
use crate::background::Task;
use pennine_store::installation;
use std::time::Duration;

/// How often there is a look.
pub const EVERY: Duration = Duration::from_secs(2);

/// Looks until told to stop.
pub async fn run(app: App) {
    loop {
        app.turns.turn(Task::KeyWatch);
        if let Err(error) = look(&app).await {
            tracing::debug!(%error, "which key is in use could not be read");
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            () = app.stop.cancelled() => return,
        }
    }
}

async fn look(app: &App) -> Result<(), pennine_store::Error> {
    let mut connection = app.store.tasks().await?;
    let Some(wanted) = installation::key_id(&mut connection).await? else {
        return Ok(());
    };
    let (before, had) = (app.encryption.current(), app.encryption.has_current());
    if before == wanted && had {
        return Ok(());
    }
    app.encryption.use_key(&wanted);
    match (app.encryption.has_current(), before == wanted) {
        (true, _) => tracing::info!(key = wanted, "another key encrypts from now on"),
        (false, false) => tracing::error!(
            key = wanted,
            "the key in use is not in this replica's key file, so that nothing can be encrypted: copy the file from the replica where pennined rotate-key ran"
        ),
        (false, true) => {}
    }
    Ok(())
}
