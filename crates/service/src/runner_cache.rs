//! What this replica remembers of runners, so that not every request of theirs asks the record: whose a credential is,
//! and which attempts a runner has or should have.
//!
//! The change feed keeps it true: [`crate::poll_wakeups`] forgets what a change is about before it wakes the runner's poll.
//! A caller that caches what it reads takes the runner's [`CacheMark`] first; what changed in between is not
//! remembered. Nothing is answered from memory while the feed is not being read, so that a replica which has lost the
//! database sends its runners to another.

use crate::feed::Feed;
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_store::attempt::ForRunner;
use pennine_store::credential::CredentialHolder;
use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// A credential's SHA-256.
type Hash = Vec<u8>;

/// What is remembered of runners.
pub struct RunnerCache {
    feed: Feed,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    /// Counts what was forgotten about who runners are.
    turns: u64,
    credentials: HashMap<Hash, RunnerId>,
    runners: HashMap<RunnerId, Entry>,
}

#[derive(Default)]
struct Entry {
    /// With the credential that it shows.
    known: Option<(Hash, CredentialHolder)>,
    /// Counts what was heard of its attempts.
    turns: u64,
    open: Option<Vec<ForRunner>>,
    /// Attempts that were heard to have ended, the latest last.
    ended: VecDeque<AttemptId>,
}

/// How many ended attempts of a runner are remembered: its polls name one that has ended for a moment only.
const ENDED: usize = 32;

impl Inner {
    /// What is known of a runner is not, and neither is the credential that it showed: that may be worth nothing by now.
    fn forget_credential(&mut self, runner: RunnerId) {
        let entry = self.runners.get_mut(&runner);
        if let Some((hash, _)) = entry.and_then(|entry| entry.known.take()) {
            self.credentials.remove(&hash);
        }
    }
}

/// Up to where changes had been heard of.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct CacheMark(u64);

impl RunnerCache {
    /// Remembers nothing yet.
    pub fn new(feed: Feed) -> Self {
        RunnerCache {
            feed,
            inner: Mutex::default(),
        }
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whose credential it is.
    pub fn known(&self, hash: &[u8]) -> Option<CredentialHolder> {
        if !self.feed.fresh() {
            return None;
        }
        let inner = self.inner();
        let runner = inner.credentials.get(hash)?;
        let (_, known) = inner.runners.get(runner)?.known.as_ref()?;
        Some(known.clone())
    }

    /// Up to where changes of runners had been heard of.
    pub fn mark(&self) -> CacheMark {
        CacheMark(self.inner().turns)
    }

    /// Remembers whose credential it is, as read after `mark`.
    pub fn learn(&self, mark: CacheMark, hash: Hash, known: &CredentialHolder) {
        let mut inner = self.inner();
        if inner.turns == mark.0 {
            inner.forget_credential(known.id.0);
            inner.credentials.insert(hash.clone(), known.id.0);
            inner.runners.entry(known.id.0).or_default().known = Some((hash, known.clone()));
        }
    }

    /// Something about the runner itself has changed.
    pub fn runner_changed(&self, runner: RunnerId) {
        let mut inner = self.inner();
        inner.turns += 1;
        inner.forget_credential(runner);
    }

    /// A pool has changed, and with it the policy that its runners receive.
    pub fn pool_changed(&self) {
        let mut inner = self.inner();
        inner.turns += 1;
        inner.credentials.clear();
        for entry in inner.runners.values_mut() {
            entry.known = None;
        }
    }

    /// The runner is gone permanently.
    pub fn runner_gone(&self, runner: RunnerId) {
        let mut inner = self.inner();
        inner.turns += 1;
        inner.forget_credential(runner);
        inner.runners.remove(&runner);
    }

    /// What the runner has or should have. None where that is not remembered, and where the runner holds an attempt that this
    /// replica has not heard of: another replica may have assigned it a moment ago, and the feed may not have brought it yet.
    pub fn open(
        &self,
        runner: RunnerId,
        held: impl IntoIterator<Item = AttemptId>,
    ) -> Option<Vec<ForRunner>> {
        if !self.feed.fresh() {
            return None;
        }
        let inner = self.inner();
        let entry = inner.runners.get(&runner)?;
        let open = entry.open.as_ref()?;
        let is_known =
            |id: AttemptId| open.iter().any(|one| one.id.0 == id) || entry.ended.contains(&id);
        held.into_iter().all(is_known).then(|| open.clone())
    }

    /// Up to where changes of a runner's attempts had been heard of.
    pub fn open_mark(&self, runner: RunnerId) -> CacheMark {
        CacheMark(self.inner().runners.entry(runner).or_default().turns)
    }

    /// Remembers what the runner has or should have, as read after `mark`.
    pub fn learn_open(&self, mark: CacheMark, runner: RunnerId, open: &[ForRunner]) {
        let mut inner = self.inner();
        let entry = inner.runners.entry(runner).or_default();
        if entry.turns == mark.0 {
            entry.open = Some(open.to_vec());
        }
    }

    /// An attempt was assigned to the runner by this replica, after `mark`.
    pub fn assigned(&self, mark: CacheMark, runner: RunnerId, one: ForRunner) {
        let mut inner = self.inner();
        let entry = inner.runners.entry(runner).or_default();
        if entry.turns == mark.0
            && let Some(open) = &mut entry.open
        {
            open.push(one);
        }
    }

    /// An attempt is heard to have been assigned to the runner; it is known already if this replica assigned it.
    pub fn note_assigned(&self, runner: RunnerId, attempt: AttemptId) {
        let mut inner = self.inner();
        let entry = inner.runners.entry(runner).or_default();
        let known = |open: &Vec<ForRunner>| open.iter().any(|one| one.id.0 == attempt);
        if !entry.open.as_ref().is_some_and(known) {
            entry.turns += 1;
            entry.open = None;
        }
    }

    /// An attempt is in this state by now.
    pub fn moved(&self, runner: RunnerId, attempt: AttemptId, state: AttemptState) {
        let mut inner = self.inner();
        let open = inner
            .runners
            .get_mut(&runner)
            .and_then(|entry| entry.open.as_mut());
        let one = open.and_then(|open| open.iter_mut().find(|one| one.id.0 == attempt));
        if let Some(one) = one {
            one.state.0 = state;
        }
    }

    /// An attempt is over.
    pub fn over(&self, runner: RunnerId, attempt: AttemptId) {
        let mut inner = self.inner();
        let entry = inner.runners.entry(runner).or_default();
        entry.turns += 1;
        if let Some(open) = &mut entry.open {
            open.retain(|one| one.id.0 != attempt);
        }
        if !entry.ended.contains(&attempt) {
            entry.ended.push_back(attempt);
        }
        if entry.ended.len() > ENDED {
            entry.ended.pop_front();
        }
    }

    /// Something about the runner's attempts has changed.
    pub fn open_changed(&self, runner: RunnerId) {
        let mut inner = self.inner();
        let entry = inner.runners.entry(runner).or_default();
        entry.turns += 1;
        entry.open = None;
    }

    /// Changes were missed: no data any more.
    pub fn forget_all(&self) {
        let mut inner = self.inner();
        inner.turns += 1;
        inner.credentials.clear();
        for entry in inner.runners.values_mut() {
            entry.turns += 1;
            entry.known = None;
            entry.open = None;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_core::id::LeaseToken;
    use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
    use pennine_core::overrides::Overrides;
    use pennine_core::time::{Micros, Moment};
    use pennine_core::trust::Trust;
    use pennine_store::Db;
    use pennine_store::types::Json;
    use uuid::Uuid;

    fn memory() -> RunnerCache {
        let feed = Feed::default();
        feed.was_read();
        RunnerCache::new(feed)
    }

    fn one(attempt: AttemptId) -> ForRunner {
        ForRunner {
            id: Db(attempt),
            lease: Db(LeaseToken(Uuid::nil())),
            number: 1,
            state: Db(AttemptState::Assigned),
            session: None,
            job_number: 1,
            title: String::new(),
            project: String::new(),
            pool: String::new(),
            pool_labels: Vec::new(),
            policy: Json(Default::default()),
            trust: Db(Trust::Trusted),
            requirement: String::new(),
            command: Json(Vec::new()),
            commands: Json(Vec::new()),
            variables: Json(Default::default()),
            secrets: Json(Default::default()),
            inherited_variables: Json(Default::default()),
            time_limit_us: Db(Micros(0)),
            cancel_by: None,
            exclusive: false,
            source: None,
        }
    }

    fn ids(memory: &RunnerCache, runner: RunnerId) -> Option<Vec<AttemptId>> {
        let open = memory.open(runner, [])?;
        Some(open.iter().map(|one| one.id.0).collect())
    }

    #[test]
    fn a_record_that_changed_while_it_was_read_is_not_cached() {
        let memory = memory();
        let runner = RunnerId(Uuid::from_u128(1));
        let (first, second) = (AttemptId(Uuid::from_u128(2)), AttemptId(Uuid::from_u128(3)));
        let mark = memory.open_mark(runner);
        memory.note_assigned(runner, first);
        memory.learn_open(mark, runner, &[]);
        assert_eq!(ids(&memory, runner), None, "the record is asked again");

        let mark = memory.open_mark(runner);
        memory.learn_open(mark, runner, &[one(first)]);
        memory.assigned(mark, runner, one(second));
        assert_eq!(ids(&memory, runner), Some(vec![first, second]));
        // Hearing of it afterwards is no news.
        memory.note_assigned(runner, second);
        assert_eq!(ids(&memory, runner), Some(vec![first, second]));
        memory.over(runner, first);
        assert_eq!(ids(&memory, runner), Some(vec![second]));
        // An assignment that was committed before this was heard may be over by now.
        memory.assigned(mark, runner, one(first));
        assert_eq!(ids(&memory, runner), Some(vec![second]));
        memory.open_changed(runner);
        assert_eq!(ids(&memory, runner), None);
    }

    #[test]
    fn an_attempt_that_was_not_heard_of_is_looked_up_before_it_counts_as_over() {
        let memory = memory();
        let runner = RunnerId(Uuid::from_u128(1));
        let (known, unknown) = (AttemptId(Uuid::from_u128(2)), AttemptId(Uuid::from_u128(3)));
        memory.learn_open(memory.open_mark(runner), runner, &[one(known)]);
        assert!(memory.open(runner, [known]).is_some());
        assert!(memory.open(runner, [known, unknown]).is_none());
        // One that has ended is known, and is not looked up again and again.
        memory.over(runner, known);
        assert_eq!(memory.open(runner, [known]).map(|open| open.len()), Some(0));
        for number in 0..2 * ENDED as u128 {
            memory.over(runner, AttemptId(Uuid::from_u128(100 + number)));
        }
        assert!(memory.open(runner, [known]).is_none());
    }

    #[test]
    fn each_change_of_a_runner_drops_its_cached_credential() {
        let memory = memory();
        let runner = RunnerId(Uuid::from_u128(1));
        let known = CredentialHolder {
            id: Db(runner),
            name: "fell-01".into(),
            state: Db(RunnerState::Available),
            desired_state: Db(DesiredState::Work),
            slots: 1,
            labels: Vec::new(),
            settings: Json(Overrides::default()),
            settings_version: 0,
            room: None,
            credential_since: Db(Moment::default()),
            shows_next: false,
            single_use: false,
            policy: Json(Default::default()),
        };
        let hash = vec![7];
        let mark = memory.mark();
        memory.learn(mark, hash.clone(), &known);
        assert!(memory.known(&hash).is_some());
        memory.runner_changed(runner);
        assert!(memory.known(&hash).is_none());
        // Read before the change, remembered after it.
        memory.learn(mark, hash.clone(), &known);
        assert!(memory.known(&hash).is_none());
        memory.learn(memory.mark(), hash.clone(), &known);
        // A next credential takes the place of the one before.
        memory.learn(memory.mark(), vec![8], &known);
        assert!(memory.known(&hash).is_none() && memory.known(&[8]).is_some());
        memory.runner_gone(runner);
        assert!(memory.known(&[8]).is_none());
    }

    #[test]
    fn the_cache_is_not_used_while_the_feed_is_not_read() {
        let memory = RunnerCache::new(Feed::default());
        let runner = RunnerId(Uuid::from_u128(1));
        memory.learn_open(memory.open_mark(runner), runner, &[]);
        assert_eq!(ids(&memory, runner), None);
        memory.feed.was_read();
        assert_eq!(ids(&memory, runner), Some(Vec::new()));
    }
}
