//! Attempts and runners that are lost because nothing was heard of them.

use super::Engine;
use crate::dispatch::RunnerView;
use crate::id::{AttemptId, RunnerId};
use crate::lifecycle::outcome::{
    LastContact, Loss, OpenAttempt, TAKEOVER_GRACE, attempt_loss, runner_loss,
};
use crate::lifecycle::runner::{RunnerEvent, RunnerState};
use crate::time::Moment;
use std::time::Duration;

/// An attempt that is not over, and its runner.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Lease<'a> {
    pub attempt: AttemptId,
    pub runner: RunnerId,
    pub open: OpenAttempt<'a>,
}

/// An attempt that is lost.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LostAttempt {
    pub attempt: AttemptId,
    pub runner: RunnerId,
    pub loss: Loss,
}

/// A runner that is offline from now on.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LostRunner {
    pub runner: RunnerId,
    pub name: String,
    pub from: RunnerState,
    pub to: RunnerState,
    pub reason: String,
}

/// What time alone has brought.
#[must_use]
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Expirations {
    pub attempts: Vec<LostAttempt>,
    pub runners: Vec<LostRunner>,
}

/// Leases are examined every second. When so much has passed since the last time, this process was stopped, its database
/// did not answer, or its clock has jumped: nothing was heard of runners meanwhile, whatever they did.
pub const GAP: Duration = Duration::from_secs(5);

impl Engine {
    /// Notes that leases are examined now. After a gap all of them start again, as after a takeover. Returns the length of
    /// the gap, if there was one.
    pub fn note_examination(&mut self, now: Moment) -> Option<Duration> {
        let before = self.examined.replace(now)?;
        let gap = Some(now.since(before)).filter(|length| *length > GAP);
        if gap.is_some() {
            self.leases_since = now;
        }
        gap
    }

    /// Returns the attempts and runners that are lost, by the time of last contact. The caller records them and applies the
    /// resulting events; until then later calls return them again.
    pub fn expire(
        &self,
        leases: &[Lease<'_>],
        contact: impl Fn(RunnerId) -> Option<LastContact>,
        now: Moment,
    ) -> Expirations {
        let attempts = leases.iter().filter_map(|lease| {
            let last = contact(lease.runner);
            let loss = attempt_loss(&lease.open, last.as_ref(), self.leases_since, now)?;
            Some(LostAttempt {
                attempt: lease.attempt,
                runner: lease.runner,
                loss,
            })
        });
        Expirations {
            attempts: attempts.collect(),
            runners: self.silent_runners(contact, now),
        }
    }

    fn silent_runners(
        &self,
        contact: impl Fn(RunnerId) -> Option<LastContact>,
        now: Moment,
    ) -> Vec<LostRunner> {
        if now.since(self.leases_since) < TAKEOVER_GRACE {
            return Vec::new();
        }
        let connected = self.dispatch.runner_views();
        let connected = connected.filter(|view| view.state.is_connected());
        let lost = |view: &RunnerView| {
            let last = contact(view.id);
            let reason = runner_loss(last.as_ref(), self.leases_since, now)?;
            let to = view.state.after(RunnerEvent::Lose).ok()?;
            Some(LostRunner {
                runner: view.id,
                name: view.name.clone(),
                from: view.state,
                to,
                reason,
            })
        };
        connected.filter_map(lost).collect()
    }
}
