//! What the leader looks after once a second: silent runners, leases, jobs that have waited long enough, the reading of
//! the whole yard.

use super::{End, Term};
use pennine_core::answer::Level;
use pennine_core::dispatch::Event;
use pennine_core::id::{MaintenanceId, PoolId, RunnerId};
use pennine_core::lifecycle::attempt::{AttemptState, LEASE};
use pennine_core::lifecycle::runner::RunnerEvent;
use pennine_core::time::{Moment, spoken};
use pennine_store::attempt::{self, Loss};
use pennine_store::job::{self, Unrun};
use pennine_store::maintenance::Calendar;
use pennine_store::runner::{self, Seen};
use pennine_store::{level, pool};
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;

/// A runner is offline when nothing was heard of it for this long. Polls come at least every 8 s or so.
const SILENCE: Duration = Duration::from_secs(15);
/// A runner whose connection was closed has this long to come back.
const CLOSED: Duration = Duration::from_secs(6);
/// After a takeover runners have this long to find the way before any is called offline.
const GRACE: Duration = Duration::from_secs(20);
/// An assignment that was not acknowledged in this time is taken back.
const ACKNOWLEDGE: Duration = Duration::from_secs(3);

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
        let given_up = job::end_unrun(&mut connection, self.epoch, Unrun::GaveUp, now).await?;
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
        for view in self
            .state
            .runner_views()
            .filter(|view| view.state.is_connected())
        {
            let heard = seen.get(&view.id);
            let silence = heard.map_or(now.since(self.led_since), |seen| now.since(seen.seen_at.0));
            let closed = heard
                .and_then(|seen| seen.closed_at)
                .is_some_and(|at| now.since(at.0) > CLOSED);
            if silence <= SILENCE && !closed {
                continue;
            }
            let why = if closed {
                "its connection was closed from its side, and it did not come back".to_owned()
            } else {
                format!(
                    "nothing was heard of it for {}; its connection was not closed: the machine or the network is gone",
                    spoken(silence)
                )
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
            let heard = seen.get(&one.runner_id.0);
            let loss = if one.runner_retired {
                Some(Loss {
                    said: format!("{} was retired", one.runner),
                    counts: false,
                })
            } else if one.state.0 == AttemptState::Assigned {
                (now.since(one.assigned_at.0.max(self.led_since)) > ACKNOWLEDGE).then(|| Loss {
                    said: format!(
                        "{} did not take it within {}",
                        one.runner,
                        spoken(ACKNOWLEDGE)
                    ),
                    counts: false,
                })
            } else if let (Some(heard), Some(session)) = (heard, one.session)
                && heard.session != session
            {
                Some(Loss {
                    said: format!("{} was restarted and lost it", one.runner),
                    counts: true,
                })
            } else {
                let renewed =
                    heard.map_or(self.led_since, |seen| seen.seen_at.0.max(self.led_since));
                (now.since(renewed) > LEASE).then(|| Loss {
                    said: format!("nothing was heard of {} for {}", one.runner, spoken(LEASE)),
                    counts: true,
                })
            };
            if let Some(loss) = loss {
                let mut connection = self.app.store.leader().await?;
                if attempt::lose(&mut connection, Some(self.epoch), one.id.0, &loss, now).await? {
                    tracing::info!(attempt = %one.id.0, said = loss.said, "an attempt came to nothing");
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
        let level = Level {
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
            level::write(&mut connection, now, level).await?;
            self.told = Some((now, level));
        }
        Ok(())
    }
}
