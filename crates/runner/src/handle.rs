//! How an attempt stands, as the poll tells it and the service's answer changes it.

use pennine_core::id::{AttemptId, LeaseToken};
use pennine_wire::runner_protocol::{AttemptPhase, HeldAttempt, StopCause};
use std::cell::{Cell, RefCell};
use std::time::Instant;
use tokio::sync::Notify;

/// How an attempt stands, as the poll tells it and the service's answer changes it.
pub struct AttemptHandle {
    pub(crate) phase: Cell<AttemptPhase>,
    pub(crate) exited: Cell<Option<Instant>>,
    pub(crate) stop: Cell<Option<StopCause>>,
    pub(crate) message: RefCell<String>,
    pub(crate) stopped: Notify,
    pub(crate) begun: Notify,
}

impl Default for AttemptHandle {
    fn default() -> Self {
        AttemptHandle {
            phase: Cell::new(AttemptPhase::Preparing),
            exited: Cell::default(),
            stop: Cell::default(),
            message: RefCell::default(),
            stopped: Notify::new(),
            begun: Notify::new(),
        }
    }
}

impl AttemptHandle {
    /// The attempt as a poll names it.
    pub fn held(&self, attempt: AttemptId, lease: LeaseToken) -> HeldAttempt {
        HeldAttempt {
            attempt,
            lease,
            phase: self.phase.get(),
            exited_ago_us: self.exited.get().map(|at| at.elapsed().into()),
            stopping: self.stop.get(),
        }
    }

    /// Waits until the service has been told of the start, or will not be.
    pub async fn begun(&self) {
        self.begun.notified().await;
    }

    /// Its command has ended.
    pub(crate) fn exit(&self, at: Instant) {
        self.exited.set(Some(at));
        self.phase.set(AttemptPhase::Finalizing);
    }

    /// One of an earlier life of this program, which has ended with it at the latest.
    pub fn left(at: Instant) -> AttemptHandle {
        let handle = AttemptHandle::default();
        handle.exit(at);
        handle
    }

    /// Whether its command has ended.
    pub fn ended(&self) -> bool {
        self.phase.get() == AttemptPhase::Finalizing
    }

    /// Why the service wants it ended, if it does.
    pub fn stopped_as(&self) -> Option<StopCause> {
        self.stop.get()
    }

    /// The service wants it ended.
    pub fn stop(&self, cause: StopCause, message: &str) {
        // That it is over outweighs a cancellation.
        if self.stop.get().is_none() || cause == StopCause::Over {
            self.stop.set(Some(cause));
            self.message.replace(message.to_owned());
            self.stopped.notify_one();
        }
    }
}
