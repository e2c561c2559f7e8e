//! Adds what is over to the sums that trends are read from: the leader does it, some seconds behind the change feed.
//!
//! It reads the outbox by a cursor of its own, kept in the record with the sums, so that a restart or another leader goes
//! on where this one was, and nothing is added twice. It stays behind by a moment, so that why the jobs waited is written
//! down by then.

use crate::app::App;
use crate::background::Task;
use crate::feed::FeedMarks;
use crate::recurring_tasks::{RecurringTask, Schedule, run_while_leading};
use pennine_core::time::Moment;
use pennine_store::change::Change;
use pennine_store::connect::in_transaction;
use pennine_store::measure::{self, NewOffer};
use pennine_store::outbox::{self, Entry};
use pennine_store::rollup::KeyCache;
use pennine_store::{Connection, Error, Store};
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// Often enough that trends are of the moment, and seldom enough that nothing is added one by one.
const PACE: Schedule = Schedule {
    first: Duration::from_secs(3),
    every: Duration::from_secs(3),
    longest: Duration::from_secs(60),
};
/// How old a change has to be.
const BEHIND: Duration = Duration::from_secs(2);
/// Changes read per batch: enough that a runner's sums are not written for each of its jobs, and few enough that
/// they are written in moments.
const BATCH: i64 = 5000;

struct RollupUpdates {
    app: App,
    known: KeyCache,
}

impl RecurringTask for RollupUpdates {
    type Error = Error;
    const WHAT: &'static str = "adding finished work to the sums";
    const TASK: Task = Task::RollupUpdates;

    async fn round(&mut self) -> Result<(), Error> {
        let (now, marks) = (self.app.clock.now(), self.app.feed.marks().await);
        let added = catch_up(&self.app.store, &mut self.known, marks, now).await;
        if added.is_err() {
            // What was discovered of keys may have been undone with the rest.
            self.known = KeyCache::default();
        }
        added?;
        // One at a time: there are dozens where a version came that draws together what earlier ones did not.
        let mut connection = self.app.store.tasks().await?;
        measure::compact(&mut connection).await?;
        Ok(())
    }
}

/// Adds what is over, for as long as this replica leads, until told to stop.
pub async fn run(app: App) {
    let work = RollupUpdates {
        app: app.clone(),
        known: KeyCache::default(),
    };
    run_while_leading(app, PACE, work).await;
}

/// Adds everything that was over some time before `now`.
/// `marks` is how far the feed was read.
pub async fn catch_up(
    store: &Store,
    known: &mut KeyCache,
    marks: FeedMarks,
    now: Moment,
) -> Result<(), Error> {
    let mut connection = store.tasks().await?;
    let (_, counted) = measure::progress(&mut connection).await?;
    if counted <= Moment::from_micros(0) {
        // The record is older than its sums.
        let mut connection = store.patient().await?;
        let found = measure::rebuild(&mut connection, now - BEHIND).await?;
        if found.work_spans > 0 {
            tracing::info!(
                work_spans = found.work_spans,
                "earlier history has been added to the sums"
            );
        }
    }
    while add_some(&mut connection, known, marks, now - BEHIND).await? {}
    Ok(())
}

/// Adds some of what the feed says is over. True when there is more.
///
/// All that can be is got ready before the transaction, so that it is short.
async fn add_some(
    connection: &mut Connection,
    known: &mut KeyCache,
    marks: FeedMarks,
    until: Moment,
) -> Result<bool, Error> {
    let (cursor, turn) = measure::revision(connection).await?;
    let entries = outbox::read_after(connection, cursor, marks.low, BATCH).await?;
    let more = entries.len() as i64 == BATCH;
    let ripe = entries.iter().take_while(|entry| entry.at < until).count();
    let (ripe, unripe) = entries.split_at(ripe);
    // Up to when everything is counted: not beyond what is read later, and not while something is missed.
    let complete_until = unripe.iter().map(|entry| entry.at).fold(until, Moment::min);
    let is_settled = marks.low >= marks.high;
    let found = EndedWork::of(ripe);
    let rows = measure::uncounted(connection, &found.attempts, &found.jobs).await?;
    let ready = measure::prepare_sums(connection, known, rows).await?;
    let offers = found.offers(connection).await?;
    in_transaction(connection, async |connection| {
        if !measure::lock_at(connection, turn).await? {
            // The sums were updated in the meantime: the prepared ones lack that update.
            return Ok(true);
        }
        let Some(last) = ripe.last() else {
            if is_settled {
                measure::note_progress(connection, cursor, complete_until).await?;
            }
            return Ok(false);
        };
        ready.add(connection).await?;
        measure::add_offers(connection, known, &offers).await?;
        if found.machines {
            measure::add_machines(connection, known).await?;
        }
        let counted = if more || !is_settled {
            last.at
        } else {
            complete_until
        };
        measure::note_progress(connection, last.cursor, counted).await?;
        Ok(more)
    })
    .await
}

/// What some changes say is over.
#[derive(Default)]
struct EndedWork {
    attempts: Vec<Uuid>,
    jobs: Vec<Uuid>,
    machines: bool,
    /// Runners of which something has changed, and when it last did.
    runners: BTreeMap<Uuid, Moment>,
    /// Pools likewise.
    pools: BTreeMap<Uuid, Moment>,
}

impl EndedWork {
    fn of(entries: &[Entry]) -> EndedWork {
        let mut over = EndedWork::default();
        for entry in entries {
            // The feed has logged one that cannot be read.
            if let Ok(change) = &entry.change {
                over.note(change, entry.at);
            }
        }
        over
    }

    fn note(&mut self, change: &Change, at: Moment) {
        match change {
            Change::AttemptEnded { attempt, .. } => self.attempts.push(attempt.0),
            Change::JobDone { job, .. } => self.jobs.push(job.0),
            Change::MachineChanged { .. } => self.machines = true,
            Change::RunnerAwaited { runner }
            | Change::RunnerJoined { runner, .. }
            | Change::RunnerChanged { runner }
            | Change::RunnerStateChanged { runner, .. }
            | Change::RunnerDesiredStateChanged { runner, .. }
            | Change::RunnerRetired { runner, .. }
            | Change::RunnerCredentialRenewed { runner } => {
                self.runners.insert(runner.0, at);
            }
            Change::PoolAdded { pool, .. }
            | Change::PoolChanged { pool, .. }
            | Change::PoolRemoved { pool, .. }
            | Change::PoolFactsLearnt { pool }
            | Change::PoolPriceChanged { pool }
            | Change::PoolDecided { pool } => {
                self.pools.insert(pool.0, at);
            }
            // Nothing is over with these, and no runner offers more or less.
            Change::JobPending { .. }
            | Change::JobStarted { .. }
            | Change::JobFinalizing { .. }
            | Change::JobCancelling { .. }
            | Change::AttemptAssigned { .. }
            | Change::AttemptSeatsTakenBack { .. }
            | Change::StrandReason { .. }
            | Change::QueueChanged { .. }
            | Change::PlaceAdded { .. }
            | Change::PlaceChanged { .. }
            | Change::PlaceMoved { .. }
            | Change::PlaceRemoved { .. }
            | Change::SeatAdded { .. }
            | Change::SeatChanged { .. }
            | Change::SeatReserved { .. }
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
            | Change::YardFileForgotten { .. } => {}
        }
    }

    /// What the runners that were spoken of offer by now.
    async fn offers(&self, connection: &mut Connection) -> Result<Vec<NewOffer>, Error> {
        let mut since = self.runners.clone();
        if let Some(last) = self.pools.values().max() {
            let pools: Vec<Uuid> = self.pools.keys().copied().collect();
            for runner in measure::members(connection, &pools).await? {
                since.entry(runner).or_insert(*last);
            }
        }
        let runners: Vec<Uuid> = since.keys().copied().collect();
        if runners.is_empty() {
            return Ok(Vec::new());
        }
        let now = measure::offers_now(connection, &runners).await?;
        let offer = |(runner, slots): (pennine_core::id::RunnerId, u32)| {
            let since = *since.get(&runner.0)?;
            Some(NewOffer {
                runner,
                since,
                slots,
            })
        };
        Ok(now.into_iter().filter_map(offer).collect())
    }
}
