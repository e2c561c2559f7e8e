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
}

/// Returns whether the service can do its work just now.
pub async fn readiness(app: &App) -> Readiness {
    let leader = async {
        let mut connection = app.store.get().await?;
        leadership::current(&mut connection).await
    };
    match leader.await {
        Ok(leader) if leader.live => Readiness::Ready,
        Ok(_) => Readiness::NotLed,
        Err(error) => {
            tracing::debug!(%error, "not ready");
            Readiness::DatabaseAway
        }
    }
}
