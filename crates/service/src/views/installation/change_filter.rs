//! Which of the feed's changes the principal may see.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::views::pools::pool::VisiblePools;
use pennine_core::id::{JobId, PoolId, RunnerId};
use pennine_store::change::Change;
use pennine_store::{job, runner};
use std::collections::{HashMap, HashSet};

/// Jobs and runners up to which it is remembered whether they are visible.
const REMEMBERED: usize = 10_000;

/// How much of a change may be seen.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ChangeDetail {
    Full,
    /// That something of this kind changed.
    KindOnly,
    Hidden,
}

/// Decides what of each change is shown. What it looks up of jobs and runners is remembered, many at a time, so that a burst
/// of changes costs a few queries.
pub struct ChangeFilter {
    who: Principal,
    jobs: HashMap<JobId, bool>,
    runners: HashMap<RunnerId, PoolId>,
    pools: Option<VisiblePools>,
}

impl ChangeFilter {
    pub fn of(who: Principal) -> ChangeFilter {
        ChangeFilter {
            who,
            jobs: HashMap::new(),
            runners: HashMap::new(),
            pools: None,
        }
    }

    /// How much of a change may be seen; `coming` are the ones after it, which are looked up with it.
    ///
    /// # Errors
    /// Where the database does not answer.
    pub async fn detail(
        &mut self,
        app: &App,
        change: &Change,
        coming: impl Fn() -> Vec<Change>,
    ) -> Result<ChangeDetail> {
        if self.who.sees.is_whole() {
            return Ok(ChangeDetail::Full);
        }
        if let Change::RunnerChanged { runner } = change {
            // It may have another pool now.
            self.runners.remove(runner);
        }
        let shown = |is_visible| match is_visible {
            true => ChangeDetail::Full,
            false => ChangeDetail::Hidden,
        };
        Ok(match subject(change) {
            Subject::Everybody => ChangeDetail::Full,
            Subject::Unknown => ChangeDetail::KindOnly,
            Subject::Installation => ChangeDetail::Hidden,
            Subject::Place(path) => shown(self.who.sees.includes(path)),
            Subject::Moved(from, to) => {
                let sees = &self.who.sees;
                shown(sees.includes(from) && sees.includes(to))
            }
            Subject::Job(id) => {
                if !self.jobs.contains_key(&id) {
                    self.learn(app, change, coming()).await?;
                }
                shown(self.jobs.get(&id) == Some(&true))
            }
            Subject::Runner(id) => {
                if !self.runners.contains_key(&id) || self.pools.is_none() {
                    self.learn(app, change, coming()).await?;
                }
                let pools = self.pools.as_ref();
                let pool = self.runners.get(&id);
                shown(pool.is_some_and(|pool| pools.is_some_and(|pools| pools.includes(*pool))))
            }
            Subject::Pool(id) => {
                self.read_pools(app).await?;
                shown(self.pools.as_ref().is_some_and(|pools| pools.includes(id)))
            }
            Subject::OfPool(id) => {
                self.read_pools(app).await?;
                let pools = self.pools.as_ref();
                shown(pools.is_some_and(|pools| pools.includes_whole(id)))
            }
        })
    }

    /// Reads the pools again: their reach and owners may be others now.
    async fn read_pools(&mut self, app: &App) -> Result<()> {
        let mut connection = app.store.people().await?;
        self.pools = Some(VisiblePools::read(&mut connection, &self.who).await?);
        Ok(())
    }

    /// Looks up the jobs and runners that are not known yet.
    async fn learn(&mut self, app: &App, change: &Change, coming: Vec<Change>) -> Result<()> {
        let (mut jobs, mut runners) = (HashSet::new(), HashSet::new());
        for one in std::iter::once(change).chain(&coming) {
            match subject(one) {
                Subject::Job(id) if !self.jobs.contains_key(&id) => _ = jobs.insert(id),
                Subject::Runner(id) if !self.runners.contains_key(&id) => _ = runners.insert(id),
                _ => {}
            }
        }
        if self.jobs.len() > REMEMBERED {
            self.jobs.clear();
        }
        if self.runners.len() > REMEMBERED {
            self.runners.clear();
        }
        let (jobs, runners) = (Vec::from_iter(jobs), Vec::from_iter(runners));
        let mut connection = app.store.people().await?;
        let paths = self.who.sees.paths().unwrap_or_default();
        let visible = job::visible(&mut connection, &jobs, paths).await?;
        self.jobs.extend(jobs.iter().map(|id| (*id, false)));
        self.jobs.extend(visible.into_iter().map(|id| (id, true)));
        let pools = runner::pools_of(&mut connection, &runners).await?;
        self.runners.extend(pools);
        self.pools = Some(VisiblePools::read(&mut connection, &self.who).await?);
        Ok(())
    }
}

/// What a change is of, as far as it decides who may see it.
enum Subject<'a> {
    /// Nothing that is anybody's in particular.
    Everybody,
    /// Something whose place the change does not tell.
    Unknown,
    /// The installation as a whole.
    Installation,
    Place(&'a str),
    Moved(&'a str, &'a str),
    Job(JobId),
    Runner(RunnerId),
    Pool(PoolId),
    /// Something that belongs to a pool's owner.
    OfPool(PoolId),
}

fn subject(change: &Change) -> Subject<'_> {
    match change {
        Change::JobPending { job, .. }
        | Change::JobStarted { job, .. }
        | Change::JobFinalizing { job }
        | Change::JobDone { job, .. }
        | Change::JobCancelling { job, .. }
        | Change::AttemptAssigned { job, .. }
        | Change::AttemptEnded { job, .. }
        | Change::AttemptSeatsTakenBack { job, .. } => Subject::Job(*job),
        Change::RunnerAwaited { runner }
        | Change::RunnerJoined { runner, .. }
        | Change::RunnerChanged { runner }
        | Change::RunnerStateChanged { runner, .. }
        | Change::RunnerDesiredStateChanged { runner, .. }
        | Change::RunnerRetired { runner, .. }
        | Change::RunnerCredentialRenewed { runner } => Subject::Runner(*runner),
        Change::PoolAdded { pool, .. }
        | Change::PoolChanged { pool, .. }
        | Change::PoolFactsLearnt { pool } => Subject::Pool(*pool),
        Change::PoolPriceChanged { pool }
        | Change::PoolDecided { pool }
        | Change::MachineChanged { pool, .. } => Subject::OfPool(*pool),
        Change::PlaceAdded { path, .. }
        | Change::PlaceChanged { path, .. }
        | Change::PlaceRemoved { path, .. } => Subject::Place(path),
        Change::PlaceMoved { from, to, .. } => Subject::Moved(from, to),
        Change::QueueChanged { .. } | Change::SeatAdded { .. } | Change::SeatChanged { .. } => {
            Subject::Everybody
        }
        Change::StrandReason { .. }
        | Change::SeatReserved { .. }
        | Change::PoolRemoved { .. }
        | Change::MaintenanceScheduled { .. }
        | Change::MaintenanceEnded { .. }
        | Change::TargetChanged { .. }
        | Change::AlertRaised { .. }
        | Change::AlertChanged { .. }
        | Change::AlertEnded { .. }
        | Change::YardFileApplied { .. }
        | Change::YardFileForgotten { .. } => Subject::Unknown,
        Change::SupplierChanged { .. }
        | Change::SupplierFailureChanged { .. }
        | Change::ListenerChanged { .. } => Subject::Installation,
    }
}
