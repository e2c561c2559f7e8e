//! Whether the service can do its work.

use crate::app::App;
use pennine_store::leadership;

/// Whether the service can do its work.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Readiness {
    /// The database answers and a replica leads.
    Ready,
    /// No replica leads dispatch just now.
    NotLed,
    /// The database does not answer.
    DatabaseAway,
    /// A background task of this replica has made no turn for too long.
    Stalled,
    /// The key that encrypts is not in this replica's key file.
    KeyMissing,
}

/// Returns whether the service can do its work just now.
pub async fn readiness(app: &App) -> Readiness {
    let leader = async {
        let mut connection = app.store.people().await?;
        leadership::current(&mut connection).await
    };
    match leader.await {
        Ok(leader) if !leader.live => Readiness::NotLed,
        Ok(_) if !app.turns.stalled().is_empty() => Readiness::Stalled,
        Ok(_) if !app.encryption.has_current() => Readiness::KeyMissing,
        Ok(_) => Readiness::Ready,
        Err(error) => {
            tracing::debug!(%error, "not ready");
            Readiness::DatabaseAway
        }
    }
}
