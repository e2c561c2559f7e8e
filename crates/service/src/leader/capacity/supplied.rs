//! What suppliers answer: machines that were ordered, removed, listed or found gone, and what went wrong.

use crate::leader::{Term, TermEnd};
use crate::supplier_calls;
use crate::supplier_calls::calls::Done;
use pennine_core::capacity::{Event, MachineView, Scope};
use pennine_core::id::{MachineId, PoolId, SupplierId};
use pennine_core::lifecycle::machine::{MachineEvent, MachineState};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::time::Moment;
use pennine_store::machine::{self, Detail, Machine};
use pennine_store::{Db, runner, supplier, trial};
use pennine_suppliers::{Fault, Offer, PlacedOrder, SuppliedMachine, SuppliedState};
use rand::RngExt;
use std::collections::BTreeSet;
use std::time::Duration;

/// What the list of a supplier does not name is gone only when it was taken before this long a time ago.
const SETTLES: Duration = Duration::from_secs(1);

impl Term<'_> {
    /// A supplier has answered.
    pub(in crate::leader) async fn done(&mut self, done: Done) -> Result<(), TermEnd> {
        let now = self.app.clock.now();
        match done {
            Done::Ordered(machine, result) => self.ordered(*machine, result, now).await?,
            Done::Removed(id) => {
                let view = self.engine.capacity().machine_view(id).cloned();
                if let Some(view) = view {
                    let mut connection = self.app.store.tasks().await?;
                    let failed = machine::among(&mut connection, &[Db(id)]).await?;
                    let failed = failed.first().is_some_and(|one| one.failed);
                    drop(connection);
                    let event = MachineEvent::Vanish { failed };
                    self.step(id, event, "it was removed", Detail::default(), now)
                        .await?;
                    tracing::debug!(machine = %view.id, "a machine is gone");
                }
            }
            Done::Console(id, text) => {
                let mut connection = self.app.store.tasks().await?;
                machine::note_failure(&mut connection, id, Some(text)).await?;
            }
            Done::Listed(supplier, as_of, Ok(found)) => {
                if self.yard.list_failed.remove(&supplier) {
                    self.fine(supplier, now);
                }
                self.compare(supplier, as_of, &found, now).await?;
            }
            Done::Listed(supplier, _, Err(fault)) => {
                self.yard.list_failed.insert(supplier);
                self.fault(supplier, PoolId::default(), &fault, now);
            }
            Done::Offered(supplier, Ok(offer)) => self.offered(supplier, offer, now).await?,
            Done::Offered(_, Err(fault)) => {
                tracing::debug!(%fault, "a supplier could not report its offer");
            }
        }
        self.record_supplier_failures(now).await?;
        self.decide().await
    }

    fn fine(&mut self, supplier: SupplierId, now: Moment) {
        let event = Event::Fine {
            supplier,
            pool: PoolId::default(),
            joined: false,
        };
        self.engine.apply(event, now);
    }

    /// Tells the keeper of a fault.
    fn fault(&mut self, supplier: SupplierId, pool: PoolId, fault: &Fault, now: Moment) {
        let (scope, retry_after) = match fault {
            Fault::Refused(_) => (Scope::Pool, None),
            Fault::RateLimited { retry_after } => (Scope::Supplier, *retry_after),
            Fault::Quota {
                quota: Some(quota), ..
            } => {
                // It will not make more than this: no fault, but a bound.
                if let Some(row) = self.yard.suppliers.get(&supplier) {
                    let mut maker = supplier_calls::maker(row);
                    maker.quota = Some(maker.quota.map_or(*quota, |known| known.min(*quota)));
                    self.engine.apply(Event::Supplier(maker), now);
                }
                return;
            }
            _ => (Scope::Supplier, None),
        };
        let event = Event::Fault {
            supplier,
            pool,
            scope,
            message: fault.to_string(),
            jitter: rand::rng().random(),
            retry_after,
        };
        self.engine.apply(event, now);
    }

    async fn ordered(
        &mut self,
        machine: Machine,
        result: Result<PlacedOrder, Fault>,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let (id, supplier, pool) = (machine.id.0, machine.supplier_id.0, machine.pool_id.0);
        match result {
            Ok(placed) => {
                let event = Event::Fine {
                    supplier,
                    pool,
                    joined: false,
                };
                self.engine.apply(event, now);
                let detail = Detail {
                    reference: Some(placed.reference.clone()),
                    zone: Some(placed.zone),
                    console: None,
                };
                self.yard.accepted.insert(id, (now, placed.reference));
                let reason = format!("{} makes it", machine.supplier);
                if self
                    .step(id, MachineEvent::Accept, &reason, detail.clone(), now)
                    .await?
                    .is_none()
                {
                    // It has joined already, or is not wanted any more.
                    let mut connection = self.app.store.tasks().await?;
                    machine::note_place(&mut connection, id, &detail, now).await?;
                }
            }
            Err(fault) => {
                tracing::warn!(machine = machine.name, %fault, "an order failed");
                self.fault(supplier, pool, &fault, now);
                if matches!(fault, Fault::Unclear(_)) {
                    // It may be there: it is removed, whether it is or not.
                    let reason = format!("the outcome of the order is unknown: {fault}");
                    self.give_up(id, &reason, now).await?;
                } else {
                    let reason = fault.to_string();
                    self.step(id, MachineEvent::Refuse, &reason, Detail::default(), now)
                        .await?;
                }
            }
        }
        Ok(())
    }

    async fn give_up(&mut self, id: MachineId, reason: &str, now: Moment) -> Result<(), TermEnd> {
        let released = self
            .step(id, MachineEvent::Release, reason, Detail::default(), now)
            .await?;
        if let Some(mut machine) = released {
            let mut connection = self.app.store.tasks().await?;
            machine::note_failure(&mut connection, id, None).await?;
            machine.failed = true;
            self.start_supplier_calls(machine);
        }
        Ok(())
    }

    async fn offered(
        &mut self,
        supplier: SupplierId,
        offer: Offer,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let Some(row) = self.yard.suppliers.get(&supplier) else {
            return Ok(());
        };
        if row.offer.is_some() && supplier_calls::offer(row) == offer {
            return Ok(());
        }
        let mut connection = self.app.store.tasks().await?;
        let told = serde_json::to_value(&offer).unwrap_or_default();
        supplier::set_offer(&mut connection, supplier, &told, now).await?;
        drop(connection);
        self.app.feed.kick();
        self.suppliers_changed(now).await
    }

    /// Lays what a supplier has beside what is written down.
    async fn compare(
        &mut self,
        supplier: SupplierId,
        as_of: Moment,
        found: &[SuppliedMachine],
        now: Moment,
    ) -> Result<(), TermEnd> {
        let there: BTreeSet<MachineId> = found.iter().map(|found| found.machine).collect();
        let known: BTreeSet<MachineId> = self
            .engine
            .capacity()
            .machines()
            .map(|machine| machine.id)
            .collect();
        let strays: Vec<MachineId> = there.difference(&known).copied().collect();
        if !strays.is_empty() {
            let mut connection = self.app.store.tasks().await?;
            let trials = trial::open(&mut connection).await?;
            // A machine recorded since the keeper's last update is not a stray.
            let ids: Vec<Db<MachineId>> = strays.iter().map(|id| Db(*id)).collect();
            let written = machine::among(&mut connection, &ids).await?;
            let fresh: Vec<MachineId> = written
                .iter()
                .filter(|machine| machine.state.0.exists())
                .map(|machine| machine.id.0)
                .collect();
            for stray in strays {
                if !trials.contains(&stray) && !fresh.contains(&stray) {
                    tracing::warn!(machine = %stray, "an unknown machine is removed");
                    self.yard.supplier_calls.remove(supplier, stray, false);
                }
            }
        }
        let asked = self.yard.supplier_calls.supplier(supplier);
        let settled = |id: &MachineId| {
            self.yard.accepted.get(id).is_some_and(|(at, reference)| {
                *at + SETTLES < as_of && asked.as_ref().is_some_and(|asked| asked.sees(reference))
            })
        };
        let vanished: Vec<MachineView> = self
            .engine
            .capacity()
            .machines()
            .filter(|one| one.supplier == supplier && !there.contains(&one.id))
            .filter(|one| matches!(one.state, MachineState::Booting | MachineState::Joined))
            .filter(|one| settled(&one.id))
            .cloned()
            .collect();
        for machine in vanished {
            let failed = machine.state == MachineState::Booting;
            let reason = if failed {
                "it vanished while booting"
            } else {
                "it vanished: its supplier no longer lists it"
            };
            tracing::warn!(machine = %machine.id, reason, "a machine is gone");
            let event = MachineEvent::Vanish { failed };
            self.step(machine.id, event, reason, Detail::default(), now)
                .await?;
            if failed {
                let fault = Fault::Refused("its machines vanish while booting".to_owned());
                self.fault(supplier, machine.pool, &fault, now);
            }
        }
        for one in found {
            self.stopped_or_reclaimed(one, now).await?;
        }
        Ok(())
    }

    async fn stopped_or_reclaimed(
        &mut self,
        found: &SuppliedMachine,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let Some(known) = self.engine.capacity().machine_view(found.machine).cloned() else {
            return Ok(());
        };
        match (found.stage, known.state) {
            (SuppliedState::Stopped, MachineState::Booting) => {
                self.give_up(known.id, "it stopped while booting", now)
                    .await?;
                let fault = Fault::Refused("its machines stop while booting".to_owned());
                self.fault(known.supplier, known.pool, &fault, now);
            }
            (SuppliedState::Stopped, MachineState::Joined) => {
                let released = self
                    .step(
                        known.id,
                        MachineEvent::Release,
                        "it has stopped",
                        Detail::default(),
                        now,
                    )
                    .await?;
                if let Some(machine) = released {
                    self.start_supplier_calls(machine);
                }
            }
            (_, MachineState::Joined) if found.reclaimed => {
                let told = self.engine.dispatch().runner_view(known.runner);
                if told.is_some_and(|view| view.desired_state != DesiredState::Drain) {
                    let mut connection = self.app.store.tasks().await?;
                    runner::set_desired_state(
                        &mut connection,
                        known.runner,
                        DesiredState::Drain,
                        None,
                        now,
                    )
                    .await?;
                    tracing::info!(machine = %known.id, "its supplier will reclaim it soon; it accepts no new jobs");
                    self.app.feed.kick();
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Writes down what is wrong with suppliers, where that is another than before.
    async fn record_supplier_failures(&mut self, now: Moment) -> Result<(), TermEnd> {
        let ids: Vec<SupplierId> = self.yard.suppliers.keys().copied().collect();
        for id in ids {
            let backoff = self.engine.capacity().backoff_of(id).cloned();
            if self.yard.backoffs.get(&id) == backoff.as_ref() {
                continue;
            }
            let mut connection = self.app.store.tasks().await?;
            let told = backoff
                .as_ref()
                .map(|one| (one.message.clone(), one.since, one.until));
            supplier::set_failure(&mut connection, id, told.as_ref(), now).await?;
            self.app.feed.kick();
            match backoff {
                Some(backoff) => self.yard.backoffs.insert(id, backoff),
                None => self.yard.backoffs.remove(&id),
            };
        }
        Ok(())
    }
}
