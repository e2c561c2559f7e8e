//! What the leader looks after once a second: silent runners, leases, jobs that have waited long enough, the reading of
//! the whole yard.

use super::{End, Term};
use crate::operations::runners::attempts::lose;
use pennine_core::answer::QueueSample;
use pennine_core::dispatch::Event;
use pennine_core::id::{MaintenanceId, PoolId, RunnerId};
use pennine_core::lifecycle::outcome::{
    LastContact, OpenAttempt, attempt_loss, gave_up, runner_loss,
};
use pennine_core::lifecycle::runner::RunnerEvent;
use pennine_core::time::Moment;
use pennine_store::job::{self, WaitEnd};
use pennine_store::maintenance::Calendar;
use pennine_store::runner::{self, Seen};
use pennine_store::{attempt, pool, queue_sample};
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;

/// After a takeover runners have this long to find the way before any is called offline.
const GRACE: Duration = Duration::from_secs(20);

/// Jobs that give up in one transaction; the rest do so at the next tick.
const GIVE_UP_AT_ONCE: i64 = 1000;

/// What was last heard of a runner, as the core sees it.
fn last_contact(seen: &Seen) -> LastContact {
    LastContact {
        at: seen.seen_at.0,
        session: seen.session.0,
        closed_at: seen.closed_at.map(|at| at.0),
    }
}

impl Term<'_> {
    /// Tells the state of maintenance that has begun or ended since the last time. True if there was any.
    pub(super) async fn keep_calendar(&mut self, read: bool) -> Result<bool, End> {
        let now = self.app.clock.now();
        let before = self.calendar.clone();
        if read {
            let mut connection = self.app.store.get().await?;
            self.calendar = Calendar::read(&mut connection, now).await?;
        }
        let on: BTreeSet<MaintenanceId> = self.calendar.on(now).map(|one| one.id.0).collect();
        if on == self.on {
            return Ok(false);
        }
        let other: BTreeSet<MaintenanceId> = on.symmetric_difference(&self.on).copied().collect();
        self.on = on;
        let all = before.0.iter().chain(&self.calendar.0);
        let other: Vec<_> = all.filter(|one| other.contains(&one.id.0)).collect();
        let pools: BTreeSet<PoolId> = other
            .iter()
            .filter_map(|one| Some(one.pool_id?.0))
            .collect();
        let runners: BTreeSet<RunnerId> = other
            .iter()
            .filter_map(|one| Some(one.runner_id?.0))
            .collect();
        let mut connection = self.app.store.get().await?;
        for pool in pools {
            if let Some(pool) = pool::get(&mut connection, pool).await? {
                self.pool_changed(&pool, now);
            }
        }
        let runners: Vec<RunnerId> = runners.into_iter().collect();
        for runner in runner::list(&mut connection, Some(&runners)).await? {
            let view = self.calendar.runner(&runner, now);
            self.state.apply(Event::Runner(Box::new(view)), now);
        }
        Ok(true)
    }

    /// Ends jobs that have waited as long as they would.
    pub(super) async fn give_up_waiting(&self, now: Moment) -> Result<(), End> {
        let mut connection = self.app.store.leader().await?;
        let due = job::due_to_give_up(&mut connection, now, GIVE_UP_AT_ONCE).await?;
        if due.is_empty() {
            return Ok(());
        }
        let ends: Vec<WaitEnd> = due
            .into_iter()
            .map(|(job, at)| {
                let (result, message) = gave_up(at);
                WaitEnd {
                    job,
                    result,
                    message,
                }
            })
            .collect();
        let given_up = job::end_waiting(&mut connection, self.epoch, &ends, now).await?;
        if !given_up.is_empty() {
            tracing::info!(jobs = ?given_up, "jobs have given up waiting");
            self.app.feed.kick();
        }
        Ok(())
    }

    /// What time alone brings: silent runners, leases that end, assignments nobody took; and the skyline's reading.
    pub(super) async fn look_after(&mut self) -> Result<(), End> {
        let now = self.app.clock.now();
        let mut connection = self.app.store.get().await?;
        let seen = runner::seen(&mut connection).await?;
        let seen: HashMap<RunnerId, Seen> = seen
            .into_iter()
            .map(|seen| (seen.runner_id.0, seen))
            .collect();
        drop(connection);
        if self.keep_calendar(false).await? {
            self.decide().await?;
        }
        self.silent_runners(&seen, now).await?;
        self.leases(&seen, now).await?;
        self.give_up_waiting(now).await?;
        self.keep_machines(now).await?;
        self.reading(now).await?;
        // Jobs climb bands as time passes.
        if self.state.next_climb().is_some_and(|at| at <= now) {
            self.decide().await?;
        }
        Ok(())
    }

    pub(super) async fn silent_runners(
        &self,
        seen: &HashMap<RunnerId, Seen>,
        now: Moment,
    ) -> Result<(), End> {
        if now.since(self.led_since) < GRACE {
            return Ok(());
        }
        let connected = self.state.runner_views();
        for view in connected.filter(|view| view.state.is_connected()) {
            let last_contact = seen.get(&view.id).map(last_contact);
            let Some(why) = runner_loss(last_contact.as_ref(), self.led_since, now) else {
                continue;
            };
            if let Ok(to) = view.state.after(RunnerEvent::Lose) {
                let mut connection = self.app.store.get().await?;
                if runner::set_state(&mut connection, view.id, view.state, to, &why, now).await? {
                    tracing::info!(runner = view.name, why, "a runner is offline");
                    self.app.feed.kick();
                }
            }
        }
        Ok(())
    }

    pub(super) async fn leases(
        &self,
        seen: &HashMap<RunnerId, Seen>,
        now: Moment,
    ) -> Result<(), End> {
        let mut connection = self.app.store.get().await?;
        let open = attempt::open(&mut connection).await?;
        drop(connection);
        for one in open {
            let last_contact = seen.get(&one.runner_id.0).map(last_contact);
            let open = OpenAttempt {
                state: one.state.0,
                assigned_at: one.assigned_at.0,
                session: one.session.map(|session| session.0),
                runner: &one.runner,
                runner_is_retired: one.runner_retired,
            };
            if let Some(loss) = attempt_loss(&open, last_contact.as_ref(), self.led_since, now) {
                let mut connection = self.app.store.leader().await?;
                let job = Some((one.job.view(), one.runner_id.0));
                let epoch = Some(self.epoch);
                if lose(&mut connection, epoch, one.id.0, &loss, job, now).await? {
                    tracing::info!(attempt = %one.id.0, reason = loss.message, "an attempt was lost");
                    self.app.feed.kick();
                    self.app.runner_cache.over(one.runner_id.0, one.id.0);
                    self.app.polls.notify(one.runner_id.0);
                }
            }
        }
        Ok(())
    }

    pub(super) async fn reading(&mut self, now: Moment) -> Result<(), End> {
        let small = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let (_, free) = self.state.slots();
        let level = QueueSample {
            waiting: small(self.peak.max(self.state.waiting())),
            executing: small(self.state.used()),
            idle: u32::try_from(free).unwrap_or(u32::MAX),
            coming: self.state.coming(),
        };
        self.peak = 0;
        let changed = self
            .told
            .is_none_or(|(at, told)| told != level || now.since(at) > Duration::from_secs(60));
        if changed {
            let mut connection = self.app.store.get().await?;
            queue_sample::write(&mut connection, now, level).await?;
            self.told = Some((now, level));
        }
        Ok(())
    }
}
