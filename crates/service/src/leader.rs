//! The leader: one replica that keeps the queue and the yard in memory and decides.
//!
//! A replica that takes the lead builds an [`Engine`] from the record, restarts every lease from now, and then follows
//! the change feed. Decisions are committed under the epoch's fence. A batch that is refused as a whole means that another replica
//! leads; a database that does not answer leaves it unknown whether a batch was committed. In both cases the state is discarded,
//! because rebuilding it is cheap.

pub mod capacity;
mod changes;
mod timeouts;
mod waiting_lines;

use crate::app::{App, FreshIds};
use crate::background::{self, Task};
use crate::operations::jobs::run_graph::end_waiting;
use crate::views::dispatch_state;
use capacity::YardState;
use futures::FutureExt;
use pennine_core::dispatch::{Assignment, Event, Inconsistency, ReasonChange, SharePolicy};
use pennine_core::engine::{self, Engine, Settlement};
use pennine_core::id::{AttemptId, JobId, LeaseToken, RunnerId, StrandId};
use pennine_core::lifecycle::outcome::unmatched;
use pennine_core::queue_sample::QueueSample;
use pennine_core::time::Moment;
use pennine_store::attempt::{self, CommitResult, ForRunner};
use pennine_store::change::Undecodable;
use pennine_store::job::{self, WaitEnd};
use pennine_store::leadership::{self, Epoch};
use pennine_store::maintenance::Calendar;
use pennine_store::outbox::Cursor;
use pennine_store::{decision_input, pool, runner, seat, set_aside, strand};
use std::collections::{BTreeSet, HashMap};
use std::panic::AssertUnwindSafe;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::broadcast::error::RecvError;
use tokio_util::sync::CancellationToken;
use tokio_util::task::AbortOnDropHandle;
use uuid::Uuid;
use waiting_lines::LineWriter;

/// How often another replica tries to take the lead.
const TRY_EVERY: Duration = Duration::from_millis(500);
/// How often the lead is renewed. It lasts 2 s.
const RENEW_EVERY: Duration = Duration::from_millis(700);
/// A leader that could not renew its lead for this long stops, before another replica can have taken over.
const RENEW_LIMIT: Duration = Duration::from_millis(1700);
/// How long a replica that met an unreadable change does not try to lead: several times what others need to take over.
const STAND_ASIDE: Duration = Duration::from_secs(5);
/// A dispatch loop that made no turn for so long will make none. A turn over the largest queue takes seconds.
const STALLED: Duration = Duration::from_secs(60);
/// How often in a row it is seen to have stalled before the lead is given up.
const STALLED_LOOKS: u32 = 5;
/// A term that ended sooner than this, by something other than an order, failed at once.
const SHORT_TERM: Duration = Duration::from_secs(10);
/// How long a replica waits before it leads again after a term that failed at once; doubled each time, up to a limit.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
const LONGEST_PAUSE: Duration = Duration::from_secs(15);
/// How often leases and connections are checked.
const TICK: Duration = Duration::from_secs(1);
/// Assignments committed at once.
const BATCH: usize = 500;

/// Why a term ended.
#[derive(Debug, thiserror::Error)]
enum TermEnd {
    #[error("another replica leads")]
    Deposed,
    #[error("leadership could not be renewed in time")]
    NotRenewed,
    #[error("this replica fell behind the change feed")]
    Behind,
    #[error("another database server answers; the state is rebuilt")]
    OtherServer,
    #[error("the tree of teams has changed; the state is rebuilt")]
    TreeMoved,
    /// A change that this version cannot read: a newer replica wrote it, and should lead.
    #[error("change {cursor} cannot be read: {error}")]
    Undecodable { cursor: Cursor, error: Undecodable },
    /// The state in memory cannot be right: it is rebuilt from the record.
    #[error("the dispatch state is inconsistent: {0}")]
    Inconsistent(Inconsistency),
    #[error("stopping")]
    Stopped,
    #[error("the dispatch loop panicked: {0}")]
    Panicked(String),
    #[error(transparent)]
    Record(#[from] pennine_store::Error),
}

impl TermEnd {
    /// Whether the next term may well end the same way.
    fn is_failure(&self) -> bool {
        match self {
            TermEnd::Deposed
            | TermEnd::NotRenewed
            | TermEnd::Behind
            | TermEnd::OtherServer
            | TermEnd::TreeMoved
            | TermEnd::Stopped => false,
            TermEnd::Undecodable { .. }
            | TermEnd::Inconsistent(_)
            | TermEnd::Panicked(_)
            | TermEnd::Record(_) => true,
        }
    }
}

/// Leads whenever no other replica does, until stopped.
pub async fn lead(app: App) {
    let mut failing = false;
    let mut pause = FIRST_PAUSE;
    while !app.stop.is_cancelled() {
        app.turns.turn(Task::Leadership);
        let taken = async {
            let mut connection = app.store.leader().await?;
            leadership::acquire(&mut connection, app.replica, &app.public_url).await
        };
        match taken.await {
            Ok(Some(epoch)) => {
                failing = false;
                tracing::info!(epoch = epoch.0, "this replica leads");
                let begun = Instant::now();
                let end = term(&app, epoch).await;
                app.leads.store(false, Ordering::Relaxed);
                if let TermEnd::Inconsistent(found) = &end {
                    note_inconsistency(&app, epoch, found).await;
                }
                if matches!(end, TermEnd::Panicked(_)) {
                    tracing::error!(epoch = epoch.0, reason = %end, "this replica no longer leads");
                } else {
                    tracing::info!(epoch = epoch.0, reason = %end, "this replica no longer leads");
                }
                let release = async {
                    let mut connection = app.store.leader().await?;
                    leadership::release(&mut connection, app.replica, epoch).await
                };
                if let Err(error) = release.await {
                    tracing::debug!(%error, "leadership could not be released; it expires by itself");
                }
                let is_for_others = match &end {
                    TermEnd::Undecodable { .. } => true,
                    // What nothing in particular is the cause of cannot be set aside.
                    TermEnd::Inconsistent(found) => found.subject.is_none(),
                    _ => false,
                };
                if is_for_others {
                    pause_leading(&app, STAND_ASIDE).await;
                } else if end.is_failure() && begun.elapsed() < SHORT_TERM {
                    pause_leading(&app, pause).await;
                    pause = (pause * 2).min(LONGEST_PAUSE);
                    continue;
                }
                pause = FIRST_PAUSE;
                continue;
            }
            Ok(None) => failing = false,
            Err(error) if !failing => {
                failing = true;
                tracing::warn!(%error, "cannot try to take leadership");
            }
            Err(_) => {}
        }
        tokio::select! {
            () = tokio::time::sleep(TRY_EVERY) => {}
            () = app.stop.cancelled() => {}
        }
    }
}

/// Records the cause of an inconsistent state; a repeated cause is set aside.
async fn note_inconsistency(app: &App, epoch: Epoch, found: &Inconsistency) {
    tracing::error!(epoch = epoch.0, %found, "the dispatch state was inconsistent and is rebuilt");
    let Some(entity) = found.subject else { return };
    let noted = async {
        let mut connection = app.store.leader().await?;
        set_aside::note(&mut connection, entity, found, app.clock.now()).await
    };
    match noted.await {
        Ok(true) => tracing::error!(%entity, "it is set aside from dispatch from now on"),
        Ok(false) => {}
        Err(error) => {
            tracing::error!(%error, "the cause of the inconsistency could not be recorded")
        }
    }
}

/// Leaves the lead to other replicas for a while. If none takes it, this replica leads again: it builds its state from the record,
/// which does not depend on the change.
async fn pause_leading(app: &App, length: Duration) {
    tokio::select! {
        () = tokio::time::sleep(length) => {}
        () = app.stop.cancelled() => {}
    }
}

/// Renews the lead until that fails, or the dispatch loop has stalled; then cancels `lost`.
async fn renew(app: App, epoch: Epoch, lost: CancellationToken) {
    let mut renewed = Instant::now();
    let mut stalled = 0;
    loop {
        tokio::time::sleep(RENEW_EVERY).await;
        let since = app.turns.since(Task::Dispatch);
        // Of a process that was stopped and goes on, the loop makes its turn at once.
        stalled = if since.is_some_and(|since| since > STALLED) {
            stalled + 1
        } else {
            0
        };
        if stalled >= STALLED_LOOKS {
            tracing::error!(
                "the dispatch loop has made no turn for {} s; the lead is given up",
                STALLED.as_secs()
            );
            break;
        }
        let begun = Instant::now();
        let attempt = async {
            let mut connection = app.store.leader().await?;
            leadership::renew(&mut connection, app.replica, epoch).await
        };
        match tokio::time::timeout(RENEW_LIMIT, attempt).await {
            Ok(Ok(true)) => renewed = begun,
            Ok(Ok(false)) => break,
            Ok(Err(_)) | Err(_) if renewed.elapsed() < RENEW_LIMIT => {}
            Ok(Err(_)) | Err(_) => break,
        }
    }
    lost.cancel();
}

/// One term as leader.
async fn term(app: &App, epoch: Epoch) -> TermEnd {
    let lost = CancellationToken::new();
    app.turns.rest(Task::Dispatch);
    // Ends with this function, however that ends: a lead is renewed only while it is exercised.
    let _renewer = AbortOnDropHandle::new(tokio::spawn(renew(app.clone(), epoch, lost.clone())));
    let followed = AssertUnwindSafe(follow(app, epoch)).catch_unwind();
    let end = tokio::select! {
        end = followed => match end {
            Ok(Ok(never)) => match never {},
            Ok(Err(end)) => end,
            Err(panic) => TermEnd::Panicked(background::panic_message(&*panic)),
        },
        () = lost.cancelled() => TermEnd::NotRenewed,
        () = app.stop.cancelled() => TermEnd::Stopped,
    };
    app.turns.rest(Task::Dispatch);
    end
}

struct Term<'a> {
    app: &'a App,
    epoch: Epoch,
    engine: Engine,
    /// Changes up to here are included in the initial state.
    read_until: Cursor,
    told: Option<(Moment, QueueSample)>,
    /// The most waiting jobs since the last sample was written.
    peak: usize,
    /// Maintenance that is on or to come.
    calendar: Calendar,
    /// The moment as of which the engine knows maintenance; later beginnings and ends are changes that it has not seen.
    calendar_at: Moment,
    yard: YardState,
    lines: LineWriter,
}

async fn follow(app: &App, epoch: Epoch) -> Result<std::convert::Infallible, TermEnd> {
    let (mut changes, mut servers) = (app.feed.subscribe(), app.feed.servers());
    let begun = Instant::now();
    let mut term = Term::begin(app, epoch).await?;
    tracing::info!(
        epoch = epoch.0,
        waiting = term.engine.dispatch().waiting(),
        executing = term.engine.dispatch().used(),
        took_ms = begun.elapsed().as_millis() as u64,
        "the queue and the yard are rebuilt"
    );
    app.turns.turn(Task::Dispatch);
    app.leads.store(true, Ordering::Relaxed);
    term.decide().await?;
    term.show_lines();
    let mut tick = tokio::time::interval(TICK);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            received = changes.recv() => match received {
                Ok(first) => {
                    term.take(&first).await?;
                    while let Ok(more) = changes.try_recv() {
                        term.take(&more).await?;
                    }
                    term.decide().await?;
                }
                Err(RecvError::Lagged(_)) => return Err(TermEnd::Behind),
                Err(RecvError::Closed) => return Err(TermEnd::Stopped),
            },
            _ = servers.changed() => return Err(TermEnd::OtherServer),
            done = term.yard.supplier_calls.next() => term.done(done).await?,
            _ = tick.tick() => term.handle_timeouts().await?,
            written = term.lines.done() => written?,
        }
        term.show_lines();
        app.turns.turn(Task::Dispatch);
    }
}

impl<'a> Term<'a> {
    async fn begin(app: &'a App, epoch: Epoch) -> Result<Self, TermEnd> {
        let mut connection = app.store.tasks().await?;
        // Everything up to here is committed or never will be, and stands in what is read from now on.
        let read_until = app.feed.low().await;
        let now = app.clock.now();
        let calendar = Calendar::read(&mut connection, now).await?;
        decision_input::record(&mut connection, now).await?;
        let policy = SharePolicy::default();
        decision_input::record_share_policy(&mut connection, &policy, now).await?;
        let (state, waiting_strands) =
            dispatch_state::read(&mut connection, &calendar, now, |_| {}).await?;
        let paused = |pool: &pool::OwnedPool| calendar.pool(pool, now).paused;
        let (yard, keeper, machines) = YardState::read(app, &mut connection, paused, now).await?;
        let mut engine = Engine::new(state, keeper, now);
        for strand in waiting_strands {
            engine.apply(engine::Event::FailUnmatched { strand }, now);
        }
        let mut term = Term {
            app,
            epoch,
            engine,
            read_until,
            told: None,
            peak: 0,
            calendar,
            calendar_at: now,
            yard,
            lines: LineWriter::default(),
        };
        term.resume_earlier_orders(machines);
        term.check()?;
        Ok(term)
    }

    /// # Errors
    /// [`TermEnd::Inconsistent`] where the engine has found what cannot be so.
    fn check(&self) -> Result<(), TermEnd> {
        match self.engine.inconsistency() {
            Some(found) => Err(TermEnd::Inconsistent(found)),
            None => Ok(()),
        }
    }

    /// Assigns and commits until nothing is refused, then settles what follows.
    async fn decide(&mut self) -> Result<(), TermEnd> {
        loop {
            let now = self.app.clock.now();
            let assignments = self.engine.assign(now, &mut FreshIds(self.app));
            self.check()?;
            let refused = self.commit_assignments(&assignments, now).await?;
            if refused.is_empty() {
                break;
            }
            self.read_refused(&refused, now).await?;
        }
        let now = self.app.clock.now();
        let settlement = self.engine.settle(now, &mut FreshIds(self.app));
        self.check()?;
        self.carry_out(settlement, now).await
    }

    /// Reads again what the record says of assignments that it refused: something had changed underneath. The change is on
    /// its way; until then what was read counts.
    async fn read_refused(&mut self, refused: &[Assignment], now: Moment) -> Result<(), TermEnd> {
        let jobs: Vec<JobId> = refused.iter().map(|one| one.job).collect();
        let runners: BTreeSet<RunnerId> = refused.iter().map(|one| one.runner).collect();
        let runners: Vec<RunnerId> = runners.into_iter().collect();
        let mut connection = self.app.store.tasks().await?;
        let waiting = job::waiting_among(&mut connection, &jobs).await?;
        self.take_waiting(&mut connection, &waiting, now).await?;
        for runner in runner::list(&mut connection, Some(&runners)).await? {
            let view = self.calendar.runner(&runner, self.calendar_at);
            self.engine.apply(Event::Runner(Box::new(view)), now);
        }
        Ok(())
    }

    /// Makes a settlement durable. What machines are ordered, and for whom seats are reserved, stands in the record before
    /// the reasons that speak of it.
    async fn carry_out(&mut self, settlement: Settlement, now: Moment) -> Result<(), TermEnd> {
        for machine in &settlement.joined {
            self.machine_joined(*machine, now).await?;
        }
        self.commit_plan(&settlement.decided, now).await?;
        if let Some(reserved) = &settlement.reserved {
            let mut connection = self.app.store.leader().await?;
            if !seat::set_seat_reservations(&mut connection, self.epoch, reserved, now).await? {
                return Err(TermEnd::Deposed);
            }
        }
        self.write_reasons(&settlement.reasons, now).await?;
        self.fail_unmatched(&settlement.unmatched, now).await
    }

    async fn write_reasons(&self, reasons: &[ReasonChange], now: Moment) -> Result<(), TermEnd> {
        for changes in reasons.chunks(BATCH) {
            let changes: Vec<_> = changes
                .iter()
                .map(|change| (change.strand, change.segments.clone()))
                .collect();
            let mut connection = self.app.store.leader().await?;
            if !strand::record(&mut connection, self.epoch, now, &changes).await? {
                return Err(TermEnd::Deposed);
            }
            self.app.feed.kick();
        }
        Ok(())
    }

    /// Commits assignments and returns those that the database refused.
    async fn commit_assignments(
        &mut self,
        assignments: &[Assignment],
        now: Moment,
    ) -> Result<Vec<Assignment>, TermEnd> {
        let mut refused = Vec::new();
        if assignments.is_empty() {
            return Ok(refused);
        }
        let mut connection = self.app.store.leader().await?;
        for batch in assignments.chunks(BATCH) {
            let leased: Vec<_> = batch
                .iter()
                .map(|a| (*a, LeaseToken(Uuid::new_v4())))
                .collect();
            let cache = &self.app.runner_cache;
            let marks: Vec<_> = batch
                .iter()
                .map(|one| cache.open_mark(one.runner))
                .collect();
            let kept = match attempt::assign(&mut connection, self.epoch, now, &leased).await? {
                CommitResult::Kept(kept) => kept,
                CommitResult::Deposed => return Err(TermEnd::Deposed),
            };
            self.app.feed.kick();
            let mut kept: HashMap<AttemptId, ForRunner> =
                kept.into_iter().map(|one| (one.id.0, one)).collect();
            for (assignment, mark) in batch.iter().zip(marks) {
                if let Some(one) = kept.remove(&assignment.attempt) {
                    cache.assigned(mark, assignment.runner, one);
                    self.app.polls.notify(assignment.runner);
                } else {
                    let attempt = assignment.attempt;
                    self.engine.apply(Event::Refused { attempt }, now);
                    refused.push(*assignment);
                }
            }
        }
        Ok(refused)
    }

    /// Ends jobs that would rather fail than wait, of strands that nothing in the yard can ever satisfy.
    async fn fail_unmatched(&self, strands: &[StrandId], now: Moment) -> Result<(), TermEnd> {
        if strands.is_empty() {
            return Ok(());
        }
        let mut connection = self.app.store.leader().await?;
        let jobs = job::fail_unmatched_now(&mut connection, strands).await?;
        if jobs.is_empty() {
            return Ok(());
        }
        let ends: Vec<WaitEnd> = jobs
            .into_iter()
            .map(|job| {
                let (result, message) = unmatched();
                WaitEnd {
                    job,
                    result,
                    message,
                }
            })
            .collect();
        let failed = end_waiting(&mut connection, self.epoch, &ends, now).await?;
        if !failed.is_empty() {
            tracing::info!(jobs = ?failed, "unmatched jobs have failed");
            self.app.feed.kick();
        }
        Ok(())
    }
}
