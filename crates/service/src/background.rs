//! The background tasks of a replica: which there are, when each last made a turn, and what follows when one ends.
//!
//! A task that ends before the replica is stopped, by a panic or by returning, ends the replica with an error, so that the
//! service manager restarts it. A panic in the dispatch loop ends only the leader's term. A task that makes no turn within
//! its limit makes `/readyz` fail and raises an alert.

use futures::FutureExt;
use std::any::Any;
use std::fmt;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::task::JoinSet;

/// A background task.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Task {
    FeedReader,
    FeedHints,
    PollWakeups,
    /// Tries to take the lead, and begins a term.
    Leadership,
    /// The loop of a term: only while this replica leads.
    Dispatch,
    Housekeeping,
    RollupUpdates,
    Alerting,
    Webhooks,
    Traces,
    Presence,
    BulkActions,
    AuditSeals,
    KeyWatch,
}

impl Task {
    pub const ALL: [Task; 14] = [
        Task::FeedReader,
        Task::FeedHints,
        Task::PollWakeups,
        Task::Leadership,
        Task::Dispatch,
        Task::Housekeeping,
        Task::RollupUpdates,
        Task::Alerting,
        Task::Webhooks,
        Task::Traces,
        Task::Presence,
        Task::BulkActions,
        Task::AuditSeals,
        Task::KeyWatch,
    ];

    /// Its name, for people.
    pub fn name(self) -> &'static str {
        match self {
            Task::FeedReader => "change feed",
            Task::FeedHints => "change hints",
            Task::PollWakeups => "poll wake-ups",
            Task::Leadership => "leadership",
            Task::Dispatch => "dispatch",
            Task::Housekeeping => "housekeeping",
            Task::RollupUpdates => "rollup updates",
            Task::Alerting => "alerting",
            Task::Webhooks => "webhooks",
            Task::Traces => "traces",
            Task::Presence => "runner presence",
            Task::BulkActions => "bulk actions",
            Task::AuditSeals => "audit seals",
            Task::KeyWatch => "key watch",
        }
    }

    /// The longest that it may take from one turn to the next. None for a task that turns only when something happens.
    fn limit(self) -> Option<Duration> {
        match self {
            Task::FeedHints | Task::PollWakeups | Task::Leadership => None,
            Task::FeedReader | Task::Presence | Task::Dispatch | Task::KeyWatch => {
                Some(Duration::from_secs(60))
            }
            // They may have a lot to do at once, and rest in proportion.
            Task::Housekeeping
            | Task::BulkActions
            | Task::AuditSeals
            | Task::RollupUpdates
            | Task::Alerting
            | Task::Webhooks
            | Task::Traces => Some(Duration::from_secs(900)),
        }
    }
}

impl fmt::Display for Task {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A task that has not made a turn for too long.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct StalledTask {
    pub task: Task,
    /// How long ago it last did.
    pub since: Duration,
}

/// When each task last made a turn. Clones are the same.
#[derive(Clone, Debug)]
pub struct TaskTurns(Arc<Turns>);

#[derive(Debug)]
struct Turns {
    begun: Instant,
    /// Milliseconds from `begun`, plus one; 0 for a task that does not run.
    at: [AtomicU64; Task::ALL.len()],
    /// The task that panics, for tests.
    fault: Option<Task>,
}

impl TaskTurns {
    /// No task runs yet. The task `fault` panics at each turn: tests see what follows.
    pub fn new(fault: Option<Task>) -> TaskTurns {
        TaskTurns(Arc::new(Turns {
            begun: Instant::now(),
            at: Default::default(),
            fault,
        }))
    }

    fn slot(&self, task: Task) -> Option<&AtomicU64> {
        self.0.at.get(task as usize)
    }

    /// The task makes a turn.
    #[allow(clippy::panic, reason = "only where a test asks for it")]
    pub fn turn(&self, task: Task) {
        if self.0.fault == Some(task) {
            panic!("a fault that a test asked for");
        }
        let now = u64::try_from(self.0.begun.elapsed().as_millis()).unwrap_or(u64::MAX - 1);
        if let Some(slot) = self.slot(task) {
            slot.store(now + 1, Ordering::Relaxed);
        }
    }

    /// The task does not run any more, and should not.
    pub fn rest(&self, task: Task) {
        if let Some(slot) = self.slot(task) {
            slot.store(0, Ordering::Relaxed);
        }
    }

    /// How long ago a task that runs made its last turn.
    pub fn since(&self, task: Task) -> Option<Duration> {
        let at = self.slot(task)?.load(Ordering::Relaxed).checked_sub(1)?;
        let now = self.0.begun.elapsed();
        Some(now.saturating_sub(Duration::from_millis(at)))
    }

    /// The tasks that have not made a turn for too long.
    pub fn stalled(&self) -> Vec<StalledTask> {
        let all = Task::ALL.into_iter();
        all.filter_map(|task| {
            let since = self.since(task)?;
            (since > task.limit()?).then_some(StalledTask { task, since })
        })
        .collect()
    }
}

/// The message of a panic.
pub fn panic_message(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned())
        .unwrap_or_else(|| "a panic without a message".to_owned())
}

/// A task that ended although it should not have.
#[derive(Debug, thiserror::Error)]
pub enum UnexpectedEnd {
    #[error("the background task \"{0}\" panicked: {1}")]
    Panicked(Task, String),
    #[error("the background task \"{0}\" ended by itself")]
    Returned(Task),
}

/// Owns the background tasks of a replica.
#[derive(Default)]
pub struct Supervisor(JoinSet<(Task, Result<(), String>)>);

impl Supervisor {
    /// Runs a task. It is aborted when the supervisor is dropped.
    pub fn spawn(&mut self, task: Task, work: impl Future<Output = ()> + Send + 'static) {
        self.0.spawn(async move {
            let ended = AssertUnwindSafe(work).catch_unwind().await;
            (task, ended.map_err(|panic| panic_message(&*panic)))
        });
    }

    /// Returns when a task has ended.
    pub async fn first_end(&mut self) -> UnexpectedEnd {
        loop {
            match self.0.join_next().await {
                Some(Ok((task, Err(message)))) => return UnexpectedEnd::Panicked(task, message),
                Some(Ok((task, Ok(())))) => return UnexpectedEnd::Returned(task),
                // Nothing aborts them.
                Some(Err(_)) => {}
                None => std::future::pending().await,
            }
        }
    }

    /// Waits for all tasks, which were asked to stop, at most `limit`. Returns how many had to be aborted.
    pub async fn finish(mut self, limit: Duration) -> usize {
        let all = async { while self.0.join_next().await.is_some() {} };
        let _ = tokio::time::timeout(limit, all).await;
        self.0.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_first_task_that_ends_is_named_with_its_panic() {
        let mut tasks = Supervisor::default();
        tasks.spawn(Task::Webhooks, std::future::pending());
        tasks.spawn(Task::Alerting, async { panic!("no {}", "luck") });
        let end = tasks.first_end().await.to_string();
        assert_eq!(end, "the background task \"alerting\" panicked: no luck");
        tasks.spawn(Task::Traces, async {});
        let end = tasks.first_end().await.to_string();
        assert_eq!(end, "the background task \"traces\" ended by itself");
        assert_eq!(tasks.finish(Duration::from_millis(10)).await, 1);
    }

    #[test]
    fn a_task_that_runs_has_a_last_turn() {
        let turns = TaskTurns::new(None);
        assert_eq!(turns.since(Task::Dispatch), None);
        turns.turn(Task::Dispatch);
        assert!(turns.since(Task::Dispatch).is_some());
        assert_eq!(turns.stalled(), []);
        turns.rest(Task::Dispatch);
        assert_eq!(turns.since(Task::Dispatch), None);
    }
}
