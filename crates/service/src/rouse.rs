//! Wakes the parked polls that a change is about, at whichever replica they are parked.

use crate::app::App;
use pennine_core::id::RunnerId;
use pennine_store::outbox::Change;
use std::sync::atomic::Ordering;
use tokio::sync::broadcast::error::RecvError;
use uuid::Uuid;

/// Rings for runners until told to stop.
pub async fn rouse(app: App) {
    let mut changes = app.feed.subscribe();
    loop {
        let received = tokio::select! {
            received = changes.recv() => received,
            () = app.stop.cancelled() => return,
        };
        match received {
            Ok(changes) => {
                let yard = |change: &&Change| {
                    change.kind.starts_with("runner.") || change.kind.starts_with("pool.")
                };
                if changes.iter().any(|change| yard(&change)) {
                    app.yard_changes.fetch_add(1, Ordering::Relaxed);
                }
                changes
                    .iter()
                    .filter_map(concerns)
                    .for_each(|runner| app.polls.ring(runner));
            }
            // What was missed is found when the polls run out, 8 s later at most.
            Err(RecvError::Lagged(missed)) => {
                app.yard_changes.fetch_add(1, Ordering::Relaxed);
                tracing::warn!(missed, "fell behind the change feed");
            }
            Err(RecvError::Closed) => return,
        }
    }
}

/// The runner that has to hear of a change.
fn concerns(change: &Change) -> Option<RunnerId> {
    match change.kind.as_str() {
        "attempt.assigned" | "attempt.over" | "job.cancelling" => change
            .body
            .get("runner")?
            .as_str()?
            .parse::<Uuid>()
            .ok()
            .map(RunnerId),
        "runner.changed" | "runner.retired" => Some(RunnerId(change.subject)),
        _ => None,
    }
}
