//! Wakes the parked polls that a change is about, at whichever replica they are parked, and keeps this replica's memory
//! of runners true.

use crate::app::App;
use crate::background::Task;
use crate::feed::Changes;
use crate::runner_cache::RunnerCache;
use pennine_core::id::RunnerId;
use pennine_store::change::Change;
use std::sync::atomic::Ordering;
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;

/// Rings for runners until told to stop. `changes` is subscribed before the feed begins to read: memory is trusted as
/// soon as the feed is fresh, and must have heard of all that the feed has read.
pub async fn run(app: App, mut changes: Receiver<Changes>) {
    let mut servers = app.feed.servers();
    loop {
        app.turns.turn(Task::PollWakeups);
        let received = tokio::select! {
            received = changes.recv() => received,
            // What is remembered may not stand on record any more.
            _ = servers.changed() => Err(RecvError::Lagged(0)),
            () = app.stop.cancelled() => return,
        };
        match received {
            Ok(changes) => {
                let mut yard_changed = false;
                for change in changes.iter().filter_map(|entry| app.feed.readable(entry)) {
                    let effect = note(&app.runner_cache, change);
                    yard_changed |= effect.yard_changed;
                    if effect.places_changed {
                        app.projects.invalidate_all();
                    }
                    if let Some(runner) = effect.wake {
                        app.polls.notify(runner);
                    }
                }
                if yard_changed {
                    app.yard_changes.fetch_add(1, Ordering::Relaxed);
                }
            }
            // What was missed is found when the polls run out, 8 s later at most.
            Err(RecvError::Lagged(missed)) => {
                app.yard_changes.fetch_add(1, Ordering::Relaxed);
                app.runner_cache.forget_all();
                tracing::warn!(missed, "fell behind the change feed");
            }
            Err(RecvError::Closed) => return,
        }
    }
}

/// The effect of a change on this replica, apart from its cache of runners.
#[derive(Default)]
struct ChangeEffect {
    /// The runner whose poll has to be answered.
    wake: Option<RunnerId>,
    /// Labels or facts in the yard may be others now.
    yard_changed: bool,
    /// Teams or projects are others now.
    places_changed: bool,
}

impl ChangeEffect {
    fn wake(runner: RunnerId) -> ChangeEffect {
        ChangeEffect {
            wake: Some(runner),
            ..ChangeEffect::default()
        }
    }

    fn yard(wake: Option<RunnerId>) -> ChangeEffect {
        ChangeEffect {
            wake,
            yard_changed: true,
            ..ChangeEffect::default()
        }
    }
}

/// Notes in memory what a change says of a runner.
fn note(memory: &RunnerCache, change: &Change) -> ChangeEffect {
    match change {
        Change::AttemptAssigned {
            attempt, runner, ..
        } => {
            memory.note_assigned(*runner, *attempt);
            ChangeEffect::wake(*runner)
        }
        Change::AttemptEnded {
            attempt, runner, ..
        } => {
            memory.over(*runner, *attempt);
            ChangeEffect::wake(*runner)
        }
        Change::JobCancelling { runner, .. } => {
            memory.open_changed(*runner);
            ChangeEffect::wake(*runner)
        }
        Change::RunnerRetired { runner, .. } => {
            memory.runner_gone(*runner);
            ChangeEffect::yard(Some(*runner))
        }
        Change::RunnerChanged { runner }
        | Change::RunnerStateChanged { runner, .. }
        | Change::RunnerDesiredStateChanged { runner, .. } => {
            memory.runner_changed(*runner);
            ChangeEffect::yard(Some(*runner))
        }
        Change::RunnerAwaited { runner }
        | Change::RunnerJoined { runner, .. }
        | Change::RunnerCredentialRenewed { runner } => {
            memory.runner_changed(*runner);
            ChangeEffect::yard(None)
        }
        Change::PoolChanged { .. } => {
            memory.pool_changed();
            ChangeEffect::yard(None)
        }
        Change::PoolAdded { .. }
        | Change::PoolRemoved { .. }
        | Change::PoolFactsLearnt { .. }
        | Change::PoolPriceChanged { .. }
        | Change::PoolDecided { .. } => ChangeEffect::yard(None),
        Change::PlaceAdded { .. }
        | Change::PlaceChanged { .. }
        | Change::PlaceMoved { .. }
        | Change::PlaceRemoved { .. } => ChangeEffect {
            places_changed: true,
            ..ChangeEffect::default()
        },
        // No poll is answered by these.
        Change::JobPending { .. }
        | Change::JobStarted { .. }
        | Change::JobFinalizing { .. }
        | Change::JobDone { .. }
        | Change::AttemptSeatsTakenBack { .. }
        | Change::StrandReason { .. }
        | Change::QueueChanged { .. }
        | Change::SeatAdded { .. }
        | Change::SeatChanged { .. }
        | Change::SeatReserved { .. }
        | Change::MachineChanged { .. }
        | Change::SupplierChanged { .. }
        | Change::SupplierFailureChanged { .. }
        | Change::MaintenanceScheduled { .. }
        | Change::MaintenanceEnded { .. }
        | Change::TargetChanged { .. }
        | Change::AlertRaised { .. }
        | Change::AlertChanged { .. }
        | Change::AlertEnded { .. }
        | Change::ListenerChanged { .. }
        | Change::YardFileApplied { .. }
        | Change::YardFileForgotten { .. } => ChangeEffect::default(),
    }
}
