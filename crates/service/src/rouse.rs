//! Wakes the parked polls that a change is about, at whichever replica they are parked, and keeps this replica's memory
//! of runners true.

use crate::app::App;
use crate::feed::Changes;
use crate::memory::Memory;
use pennine_core::id::{AttemptId, RunnerId};
use pennine_store::outbox::Change;
use std::sync::atomic::Ordering;
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;
use uuid::Uuid;

/// Rings for runners until told to stop. `changes` is subscribed before the feed begins to read: memory is trusted as
/// soon as the feed is fresh, and must have heard of all that the feed has read.
pub async fn rouse(app: App, mut changes: Receiver<Changes>) {
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
                if changes
                    .iter()
                    .any(|change| change.kind.starts_with("place."))
                {
                    app.projects.invalidate_all();
                }
                for change in changes.iter() {
                    if let Some(runner) = note(&app.memory, change) {
                        app.polls.ring(runner);
                    }
                }
            }
            // What was missed is found when the polls run out, 8 s later at most.
            Err(RecvError::Lagged(missed)) => {
                app.yard_changes.fetch_add(1, Ordering::Relaxed);
                app.memory.forget_all();
                tracing::warn!(missed, "fell behind the change feed");
            }
            Err(RecvError::Closed) => return,
        }
    }
}

/// Notes in memory what a change says of a runner. The runner comes back if its poll has to hear of it.
fn note(memory: &Memory, change: &Change) -> Option<RunnerId> {
    let runner = || {
        let named = change.body.get("runner")?.as_str()?;
        named.parse::<Uuid>().ok().map(RunnerId)
    };
    let attempt = AttemptId(change.subject);
    match change.kind.as_str() {
        "attempt.assigned" => {
            let runner = runner()?;
            memory.heard_assigned(runner, attempt);
            Some(runner)
        }
        "attempt.over" => {
            let runner = runner()?;
            memory.over(runner, attempt);
            Some(runner)
        }
        "job.cancelling" => {
            let runner = runner()?;
            memory.open_changed(runner);
            Some(runner)
        }
        "runner.retired" => {
            memory.runner_gone(RunnerId(change.subject));
            Some(RunnerId(change.subject))
        }
        kind if kind.starts_with("runner.") => {
            memory.runner_changed(RunnerId(change.subject));
            (kind == "runner.changed").then_some(RunnerId(change.subject))
        }
        _ => None,
    }
}
