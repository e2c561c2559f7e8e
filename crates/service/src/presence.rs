//! When each runner was last heard of by this replica: kept in memory, written down once a second.

use crate::background::{Task, TaskTurns};
use crate::clock::Clock;
use pennine_core::id::{AttemptId, RunnerId, SessionId};
use pennine_core::time::Moment;
use pennine_store::runner_presence::{self, LastHeard};
use pennine_store::{Db, Store};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A runner of which nothing was heard for so long is forgotten.
const REMEMBERED: Duration = Duration::from_secs(3600);

#[derive(Clone)]
struct Entry {
    session: SessionId,
    /// From where.
    peer: Option<IpAddr>,
    at: Moment,
    closed: Option<Moment>,
    /// Polls of this session that are being answered now.
    parked: u32,
    written: bool,
    /// Attempts that this session should hold, and that its last poll did not name.
    unnamed: Vec<AttemptId>,
}

/// Who was heard of when.
#[derive(Clone, Default)]
pub struct PresenceMap(Arc<Mutex<HashMap<RunnerId, Entry>>>);

/// One poll in progress. Dropped without [`Presence::answered`], its connection was closed by the other side.
pub struct Presence {
    map: PresenceMap,
    clock: Clock,
    runner: RunnerId,
    session: SessionId,
    answered: bool,
}

/// A connection on which a runner has polled. When it ends between two polls, nothing else tells that the runner's
/// process is gone.
pub struct Line {
    map: PresenceMap,
    clock: Clock,
    runner: RunnerId,
    session: SessionId,
}

impl PresenceMap {
    /// The connection on which this session polls.
    pub fn line(&self, runner: RunnerId, session: SessionId, clock: &Clock) -> Line {
        Line {
            map: self.clone(),
            clock: clock.clone(),
            runner,
            session,
        }
    }

    fn entries(&self) -> std::sync::MutexGuard<'_, HashMap<RunnerId, Entry>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether this replica knows the session as the runner's.
    pub fn knows(&self, runner: RunnerId, session: SessionId) -> bool {
        self.entries()
            .get(&runner)
            .is_some_and(|entry| entry.session == session)
    }

    /// Whether this replica has heard of the runner at all.
    pub fn knows_any(&self, runner: RunnerId) -> bool {
        self.entries().contains_key(&runner)
    }

    /// Whether another session of the runner has a poll open at this replica, or had one after `since`.
    pub fn other_live(&self, runner: RunnerId, session: SessionId, since: Moment) -> bool {
        self.entries().get(&runner).is_some_and(|entry| {
            entry.session != session
                && entry.closed.is_none()
                && (entry.parked > 0 || entry.at > since)
        })
    }

    /// A poll begins.
    pub fn begin(
        &self,
        runner: RunnerId,
        session: SessionId,
        peer: Option<IpAddr>,
        clock: &Clock,
    ) -> Presence {
        let mut entries = self.entries();
        let entry = entries.entry(runner).or_insert(Entry {
            session,
            peer,
            at: clock.now(),
            closed: None,
            parked: 0,
            written: false,
            unnamed: Vec::new(),
        });
        if entry.session != session {
            entry.session = session;
            entry.parked = 0;
            entry.unnamed.clear();
        }
        entry.peer = peer;
        entry.at = clock.now();
        entry.closed = None;
        entry.parked += 1;
        entry.written = false;
        Presence {
            map: self.clone(),
            clock: clock.clone(),
            runner,
            session,
            answered: false,
        }
    }

    /// Stores the attempts that a session should hold and that its poll does not name. Returns the ones that the previous
    /// poll did not name either.
    pub fn not_named(
        &self,
        runner: RunnerId,
        session: SessionId,
        unnamed: Vec<AttemptId>,
    ) -> Vec<AttemptId> {
        let mut entries = self.entries();
        let Some(entry) = entries
            .get_mut(&runner)
            .filter(|entry| entry.session == session)
        else {
            return Vec::new();
        };
        let before = std::mem::replace(&mut entry.unnamed, unnamed);
        let again = entry.unnamed.iter().filter(|one| before.contains(one));
        again.copied().collect()
    }

    /// The runner's process said that it ends.
    pub fn close(&self, runner: RunnerId, session: SessionId, at: Moment) {
        if let Some(entry) = self
            .entries()
            .get_mut(&runner)
            .filter(|entry| entry.session == session)
        {
            entry.closed = Some(at);
            entry.written = false;
        }
    }

    fn unwritten(&self) -> Vec<LastHeard> {
        let mut entries = self.entries();
        let fresh =
            entries
                .iter_mut()
                .filter(|(_, entry)| !entry.written)
                .map(|(runner, entry)| {
                    entry.written = true;
                    LastHeard {
                        runner_id: Db(*runner),
                        session: Db(entry.session),
                        seen_at: Db(entry.at),
                        closed_at: entry.closed.map(Db),
                        peer: entry.peer.map(|peer| peer.to_string()),
                    }
                });
        fresh.collect()
    }

    fn not_written(&self, seen: &[LastHeard]) {
        let mut entries = self.entries();
        for one in seen {
            if let Some(entry) = entries.get_mut(&one.runner_id.0) {
                entry.written = false;
            }
        }
    }

    /// Forgets runners of which nothing was heard for long: what is on record of them is enough.
    fn forget_old(&self, now: Moment) {
        let mut entries = self.entries();
        entries.retain(|_, entry| {
            !entry.written || entry.parked > 0 || now.since(entry.at) < REMEMBERED
        });
    }

    /// Writes down what is new.
    pub async fn flush(&self, store: &Store) -> pennine_store::Result<()> {
        let seen = self.unwritten();
        let written = async {
            let mut connection = store.tasks().await?;
            runner_presence::flush_seen(&mut connection, &seen).await
        };
        let result = if seen.is_empty() {
            Ok(())
        } else {
            written.await
        };
        if result.is_err() {
            self.not_written(&seen);
        }
        result
    }

    /// Flushes once a second until told to stop, and once more then.
    pub async fn flush_until_stopped(
        self,
        store: Store,
        clock: Clock,
        stop: tokio_util::sync::CancellationToken,
        turns: TaskTurns,
    ) {
        let mut failing = false;
        loop {
            turns.turn(Task::Presence);
            let last = tokio::select! {
                () = tokio::time::sleep(Duration::from_secs(1)) => false,
                () = stop.cancelled() => true,
            };
            match self.flush(&store).await {
                Ok(()) => {
                    failing = false;
                    self.forget_old(clock.now());
                }
                Err(error) if !failing => {
                    failing = true;
                    tracing::warn!(%error, "runner presence cannot be stored");
                }
                Err(_) => {}
            }
            if last {
                return;
            }
        }
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        let now = self.clock.now();
        let mut entries = self.map.entries();
        if let Some(entry) = entries.get_mut(&self.runner).filter(|entry| {
            entry.session == self.session && entry.parked == 0 && entry.closed.is_none()
        }) {
            entry.closed = Some(now);
            entry.written = false;
        }
    }
}

impl Presence {
    /// The poll was answered.
    pub fn answered(mut self) {
        self.answered = true;
    }
}

impl Drop for Presence {
    fn drop(&mut self) {
        let now = self.clock.now();
        let mut entries = self.map.entries();
        if let Some(entry) = entries
            .get_mut(&self.runner)
            .filter(|entry| entry.session == self.session)
        {
            entry.parked = entry.parked.saturating_sub(1);
            if self.answered {
                entry.at = now;
            } else if entry.parked == 0 {
                entry.closed = Some(now);
            }
            entry.written = false;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    #[test]
    fn a_session_with_an_open_poll_is_live_however_long_ago_the_poll_began() {
        let map = PresenceMap::default();
        let clock = Clock::starting_at(Moment::from_micros(1_000_000));
        let runner = RunnerId(Uuid::from_u128(1));
        let (one, two) = (SessionId(Uuid::from_u128(2)), SessionId(Uuid::from_u128(3)));
        let long_ago = |clock: &Clock| clock.now() - Duration::from_secs(10);
        let open = map.begin(runner, one, None, &clock);
        clock.advance(Duration::from_secs(60));
        assert!(map.other_live(runner, two, long_ago(&clock)));
        assert!(!map.other_live(runner, one, long_ago(&clock)));
        open.answered();
        assert!(map.other_live(runner, two, long_ago(&clock)));
        clock.advance(Duration::from_secs(60));
        assert!(!map.other_live(runner, two, long_ago(&clock)));
        drop(map.begin(runner, one, None, &clock));
        assert!(
            !map.other_live(runner, two, long_ago(&clock)),
            "its connection ended"
        );
    }
}
