//! How the leader takes note of changes: what a change only names is read from the record, and the state of dispatch is
//! told how things are now.

use super::{Term, TermEnd};
use crate::feed::Changes;
use crate::views::dispatch_state::{places_and_seats, waits};
use pennine_core::dispatch::Event;
use pennine_core::engine;
use pennine_core::id::{JobId, MachineId, PoolId, RunnerId, StrandId};
use pennine_core::time::Moment;
use pennine_store::change::Change;
use pennine_store::job::{self, WaitingJob};
use pennine_store::{Connection, pool, runner, strand};
use std::collections::{BTreeSet, HashMap};

/// What some changes name, gathered so that each thing is read once.
#[derive(Default)]
struct AffectedIds {
    strands: BTreeSet<StrandId>,
    /// Jobs that wait again.
    jobs: BTreeSet<JobId>,
    runners: BTreeSet<RunnerId>,
    pools: BTreeSet<PoolId>,
    machines: BTreeSet<MachineId>,
    /// Strands in which jobs wait that would rather fail than wait for a match.
    fail_unmatched: BTreeSet<StrandId>,
    places_or_seats: bool,
    place_paths: bool,
    maintenance: bool,
    suppliers: bool,
}

impl AffectedIds {
    fn note(&mut self, change: &Change) {
        match change {
            Change::JobPending {
                job,
                strand,
                again,
                fail_unmatched,
                ..
            } => {
                if *again {
                    self.jobs.insert(*job);
                }
                if *fail_unmatched {
                    self.fail_unmatched.insert(*strand);
                }
                self.strands.insert(*strand);
            }
            Change::RunnerAwaited { runner }
            | Change::RunnerJoined { runner, .. }
            | Change::RunnerChanged { runner }
            | Change::RunnerStateChanged { runner, .. }
            | Change::RunnerDesiredStateChanged { runner, .. }
            | Change::RunnerRetired { runner, .. } => {
                self.runners.insert(*runner);
            }
            Change::PoolAdded { pool, .. }
            | Change::PoolChanged { pool, .. }
            | Change::PoolRemoved { pool, .. }
            | Change::PoolFactsLearnt { pool }
            | Change::PoolPriceChanged { pool } => {
                self.pools.insert(*pool);
            }
            // Every path below it is another now, and with it reach, limits and shares.
            Change::PlaceMoved { .. } | Change::PlaceRemoved { .. } => self.place_paths = true,
            Change::PlaceAdded { .. }
            | Change::PlaceChanged { .. }
            | Change::SeatAdded { .. }
            | Change::SeatChanged { .. } => self.places_or_seats = true,
            Change::MaintenanceScheduled { .. } | Change::MaintenanceEnded { .. } => {
                self.maintenance = true;
            }
            Change::SupplierChanged { .. } => self.suppliers = true,
            Change::MachineChanged { machine, .. } => {
                self.machines.insert(*machine);
            }
            // A leader that has just begun may be told again of what its state holds already, or of what is over by now.
            Change::AttemptAssigned { strand, .. } => {
                self.strands.insert(*strand);
            }
            // Events say all that there is to know of these: see `event`.
            Change::JobDone { .. }
            | Change::AttemptEnded { .. }
            | Change::AttemptSeatsTakenBack { .. } => {}
            // These change nothing that dispatch or capacity goes by, or the leader itself made them.
            Change::JobStarted { .. }
            | Change::JobFinalizing { .. }
            | Change::JobCancelling { .. }
            | Change::StrandReason { .. }
            | Change::QueueChanged { .. }
            | Change::RunnerCredentialRenewed { .. }
            | Change::PoolDecided { .. }
            | Change::SeatReserved { .. }
            | Change::SupplierFailureChanged { .. }
            | Change::TargetChanged { .. }
            | Change::AlertRaised { .. }
            | Change::AlertChanged { .. }
            | Change::AlertEnded { .. }
            | Change::ListenerChanged { .. }
            | Change::YardFileApplied { .. }
            | Change::YardFileForgotten { .. } => {}
        }
    }
}

/// The event that a change is to dispatch, by itself.
fn event(change: &Change, at: Moment, waiting_again: &HashMap<JobId, WaitingJob>) -> Option<Event> {
    match change {
        Change::JobPending {
            job, again: true, ..
        } => waiting_again.get(job).map(waits),
        Change::JobPending {
            job,
            strand,
            number,
            ..
        } => Some(Event::Waits {
            job: *job,
            strand: *strand,
            ready: at,
            since: at,
            number: *number,
            avoid: None,
        }),
        Change::JobDone { job, .. } => Some(Event::Withdrawn { job: *job }),
        Change::AttemptAssigned {
            attempt,
            job,
            runner,
            strand,
        } => Some(Event::Holds {
            attempt: *attempt,
            job: *job,
            runner: *runner,
            strand: *strand,
            since: at,
        }),
        Change::AttemptEnded { attempt, .. } => Some(Event::Released { attempt: *attempt }),
        Change::AttemptSeatsTakenBack { attempt, .. } => {
            Some(Event::SeatsTakenBack { attempt: *attempt })
        }
        // Everything else is read from the record: see `AffectedIds`.
        _ => None,
    }
}

impl Term<'_> {
    /// Takes note of changes.
    ///
    /// # Errors
    /// [`TermEnd::Undecodable`] where this version cannot read a change: one that can should lead.
    pub(super) async fn take(&mut self, changes: &Changes) -> Result<(), TermEnd> {
        let mut fresh = Vec::with_capacity(changes.len());
        let mut affected = AffectedIds::default();
        for entry in changes.iter().filter(|one| one.cursor > self.read_until) {
            let change = entry
                .change
                .as_ref()
                .map_err(|error| TermEnd::Undecodable {
                    cursor: entry.cursor,
                    error: error.clone(),
                })?;
            affected.note(change);
            fresh.push((entry.at, change));
        }
        if affected.place_paths {
            return Err(TermEnd::TreeMoved);
        }
        if affected.maintenance {
            self.keep_calendar(true).await?;
        }
        if affected.suppliers {
            self.suppliers_changed(self.app.clock.now()).await?;
        }
        affected
            .strands
            .retain(|id| !self.engine.dispatch().knows_strand(*id));
        let now = self.app.clock.now();
        let waiting_again = self.read_affected(&mut affected, now).await?;
        if !affected.machines.is_empty() {
            self.machines_changed(&affected.machines, now).await?;
        }
        for (at, change) in fresh {
            if let Some(event) = event(change, at, &waiting_again) {
                self.engine.apply(event, now);
            }
        }
        self.check()?;
        for strand in affected.fail_unmatched {
            self.engine
                .apply(engine::Event::FailUnmatched { strand }, now);
        }
        self.peak = self.peak.max(self.engine.dispatch().waiting());
        Ok(())
    }

    /// Reads what changes only name and tells the state how it is now. Returns the jobs that wait again.
    async fn read_affected(
        &mut self,
        affected: &mut AffectedIds,
        now: Moment,
    ) -> Result<HashMap<JobId, WaitingJob>, TermEnd> {
        let mut waiting_again = HashMap::new();
        let nothing = affected.strands.is_empty()
            && affected.jobs.is_empty()
            && affected.runners.is_empty()
            && affected.pools.is_empty();
        if nothing && !affected.places_or_seats {
            return Ok(waiting_again);
        }
        let mut connection = self.app.store.tasks().await?;
        if affected.places_or_seats {
            for event in places_and_seats(&mut connection).await? {
                self.engine.apply(event, now);
            }
        }
        for id in &affected.pools {
            if let Some(pool) = pool::get(&mut connection, *id).await? {
                self.price(&mut connection, &pool, now).await?;
                self.pool_changed(&pool, now);
            }
        }
        if !affected.pools.is_empty() {
            // A pool's labels are its runners'.
            let members = runner::list(&mut connection, None).await?;
            let members = members
                .iter()
                .filter(|one| affected.pools.contains(&one.pool_id.0));
            affected.runners.extend(members.map(|one| one.id.0));
        }
        if !affected.runners.is_empty() {
            let ids: Vec<RunnerId> = affected.runners.iter().copied().collect();
            for runner in runner::list(&mut connection, Some(&ids)).await? {
                let view = self.calendar.runner(&runner, self.calendar_at);
                self.engine.apply(Event::Runner(Box::new(view)), now);
            }
        }
        if !affected.jobs.is_empty() {
            let ids: Vec<JobId> = affected.jobs.iter().copied().collect();
            for job in job::waiting_among(&mut connection, &ids).await? {
                // It may have been moved to another strand since the change.
                if !self.engine.dispatch().knows_strand(job.strand_id.0) {
                    affected.strands.insert(job.strand_id.0);
                }
                waiting_again.insert(job.id.0, job);
            }
        }
        self.read_strands(&mut connection, &affected.strands, now)
            .await?;
        Ok(waiting_again)
    }

    /// Tells the state of jobs that wait, and of their strands where they are new to it.
    pub(super) async fn take_waiting(
        &mut self,
        connection: &mut Connection,
        jobs: &[WaitingJob],
        now: Moment,
    ) -> Result<(), TermEnd> {
        let strands = jobs.iter().map(|job| job.strand_id.0);
        let strands = strands
            .filter(|id| !self.engine.dispatch().knows_strand(*id))
            .collect();
        self.read_strands(connection, &strands, now).await?;
        for job in jobs {
            self.engine.apply(waits(job), now);
        }
        Ok(())
    }

    async fn read_strands(
        &mut self,
        connection: &mut Connection,
        strands: &BTreeSet<StrandId>,
        now: Moment,
    ) -> Result<(), TermEnd> {
        if strands.is_empty() {
            return Ok(());
        }
        let ids: Vec<StrandId> = strands.iter().copied().collect();
        for found in strand::get(connection, &ids).await? {
            let event = Event::Strand {
                id: found.id.0,
                key: found.key.0,
                project: found.project,
            };
            self.engine.apply(event, now);
        }
        for (id, _, segments) in strand::latest(connection, &ids).await? {
            self.engine.restore_reasons(id, segments);
        }
        Ok(())
    }
}
