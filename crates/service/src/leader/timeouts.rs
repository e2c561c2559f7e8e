//! What the leader looks after once a second: silent runners, leases, jobs that have waited long enough, the reading of
//! the whole yard.

use super::{Term, TermEnd};
use crate::operations::jobs::run_graph::end_waiting;
use crate::operations::runners::attempts::lose;
use pennine_core::dispatch::Event;
use pennine_core::engine::Lease;
use pennine_core::id::{AttemptId, MaintenanceId, PoolId, RunnerId};
use pennine_core::lifecycle::outcome::{LastContact, OpenAttempt, gave_up};
use pennine_core::queue_sample::QueueSample;
use pennine_core::time::{Moment, spoken};
use pennine_store::attempt::{self, Open};
use pennine_store::job::{self, WaitEnd};
use pennine_store::maintenance::Calendar;
use pennine_store::runner;
use pennine_store::runner_presence::{self, LastHeard};
use pennine_store::{pool, queue_sample};
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;

/// Jobs that give up in one transaction; the rest do so at the next tick.
const GIVE_UP_AT_ONCE: i64 = 1000;

/// What was last heard of a runner, as the core sees it.
fn last_contact(seen: &LastHeard) -> LastContact {
    LastContact {
        at: seen.seen_at.0,
        session: seen.session.0,
        closed_at: seen.closed_at.map(|at| at.0),
    }
}

fn lease(one: &Open) -> Lease<'_> {
    Lease {
        attempt: one.id.0,
        runner: one.runner_id.0,
        open: OpenAttempt {
            state: one.state.0,
            assigned_at: one.assigned_at.0,
            session: one.session.map(|session| session.0),
            runner: &one.runner,
            runner_is_retired: one.runner_retired,
            cancelled_at: one.cancel_at.map(|at| at.0),
        },
    }
}

impl Term<'_> {
    /// Tells the state of maintenance that has begun or ended since the last time. True if there was any.
    pub(super) async fn keep_calendar(&mut self, read: bool) -> Result<bool, TermEnd> {
        let now = self.app.clock.now();
        let ids = |calendar: &Calendar, at: Moment| -> BTreeSet<MaintenanceId> {
            calendar.on(at).map(|one| one.id.0).collect()
        };
        let before = self.calendar.clone();
        let was_on = ids(&before, self.calendar_at);
        if read {
            let mut connection = self.app.store.tasks().await?;
            self.calendar = Calendar::read(&mut connection, now).await?;
        }
        self.calendar_at = now;
        let on = ids(&self.calendar, now);
        if on == was_on {
            return Ok(false);
        }
        let other: BTreeSet<MaintenanceId> = on.symmetric_difference(&was_on).copied().collect();
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
        let mut connection = self.app.store.tasks().await?;
        for pool in pools {
            if let Some(pool) = pool::get(&mut connection, pool).await? {
                self.pool_changed(&pool, now);
            }
        }
        let runners: Vec<RunnerId> = runners.into_iter().collect();
        for runner in runner::list(&mut connection, Some(&runners)).await? {
            let view = self.calendar.runner(&runner, self.calendar_at);
            self.engine.apply(Event::Runner(Box::new(view)), now);
        }
        Ok(true)
    }

    /// Ends jobs that have waited as long as they would.
    pub(super) async fn give_up_waiting(&self, now: Moment) -> Result<(), TermEnd> {
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
        let given_up = end_waiting(&mut connection, self.epoch, &ends, now).await?;
        if !given_up.is_empty() {
            tracing::info!(jobs = ?given_up, "jobs have given up waiting");
            self.app.feed.kick();
        }
        Ok(())
    }

    /// Timeouts: silent runners, expired leases, assignments not acknowledged; and the skyline's samples.
    pub(super) async fn handle_timeouts(&mut self) -> Result<(), TermEnd> {
        let now = self.app.clock.now();
        if let Some(gap) = self.engine.note_examination(now) {
            let gap = spoken(gap);
            tracing::warn!(
                gap,
                "leases were not examined for a while: this process was stopped, the database did not answer, or the clock jumped; all leases start again"
            );
        }
        if self.keep_calendar(false).await? {
            self.decide().await?;
        }
        self.expire(now).await?;
        self.give_up_waiting(now).await?;
        self.keep_machines(now).await?;
        self.reading(now).await?;
        // Jobs climb bands as time passes.
        let next_climb = self.engine.dispatch().next_climb();
        if next_climb.is_some_and(|at| at <= now) {
            self.decide().await?;
        }
        Ok(())
    }

    /// Writes down which attempts and runners are lost because nothing was heard of them.
    async fn expire(&self, now: Moment) -> Result<(), TermEnd> {
        let mut connection = self.app.store.tasks().await?;
        let seen = runner_presence::seen(&mut connection).await?;
        let open = attempt::open(&mut connection).await?;
        drop(connection);
        let contacts: HashMap<RunnerId, LastContact> = seen
            .iter()
            .map(|seen| (seen.runner_id.0, last_contact(seen)))
            .collect();
        let leases: Vec<Lease<'_>> = open.iter().map(lease).collect();
        let contact = |runner: RunnerId| contacts.get(&runner).copied();
        let expired = self.engine.expire(&leases, contact, now);
        for lost in expired.runners {
            let mut connection = self.app.store.tasks().await?;
            let (from, to, reason) = (lost.from, lost.to, &lost.reason);
            if runner::set_state(&mut connection, lost.runner, from, to, reason, now).await? {
                tracing::info!(runner = lost.name, reason, "a runner is offline");
                self.app.feed.kick();
            }
        }
        let jobs: HashMap<AttemptId, &Open> = open.iter().map(|one| (one.id.0, one)).collect();
        for lost in expired.attempts {
            let mut connection = self.app.store.leader().await?;
            let job = jobs
                .get(&lost.attempt)
                .map(|one| (one.job.view(), lost.runner));
            let epoch = Some(self.epoch);
            if lose(&mut connection, epoch, lost.attempt, &lost.loss, job, now).await? {
                tracing::info!(attempt = %lost.attempt, reason = lost.loss.message, "an attempt was lost");
                self.app.feed.kick();
                self.app.runner_cache.over(lost.runner, lost.attempt);
                self.app.polls.notify(lost.runner);
            }
        }
        Ok(())
    }

    pub(super) async fn reading(&mut self, now: Moment) -> Result<(), TermEnd> {
        let small = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let state = self.engine.dispatch();
        let (_, free) = state.slots();
        let level = QueueSample {
            waiting: small(self.peak.max(state.waiting())),
            executing: small(state.used()),
            idle: u32::try_from(free).unwrap_or(u32::MAX),
            coming: state.coming(),
        };
        self.peak = 0;
        let changed = self
            .told
            .is_none_or(|(at, told)| told != level || now.since(at) > Duration::from_secs(60));
        if changed {
            let mut connection = self.app.store.tasks().await?;
            queue_sample::write(&mut connection, now, level).await?;
            self.told = Some((now, level));
        }
        Ok(())
    }
}
