//! The leader keeps the pools' machines: what the engine decides is written down under the fence, and then the suppliers
//! are asked.

mod supplied;

use super::{Term, TermEnd};
use crate::app::App;
use crate::supplier_calls::calls::{SupplierCalls, order_of};
use crate::views::capacity_state;
use crate::{secret, supplier_calls};
use pennine_core::capacity::{
    CapacityPlan, Event, Keeper, MachineView, ManagedPool, PoolStanding, SupplierBackoff,
};
use pennine_core::engine;
use pennine_core::id::{MachineId, PoolId, SupplierId};
use pennine_core::lifecycle::machine::{MachineEvent, MachineState};
use pennine_core::queue_sample::QueueSample;
use pennine_core::time::Moment;
use pennine_store::capacity::{self, Decision};
use pennine_store::machine::{self, Detail, Machine, NewMachine};
use pennine_store::pool::{self, DiscoveredFacts, OwnedPool};
use pennine_store::supplier::{self, Supplier as Row};
use pennine_store::{Connection, Db, runner};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::time::Duration;

/// A ticket outlives the time in which its machine has to join.
const TICKET_EXTRA: Duration = Duration::from_secs(60);
/// Facts by which machines of one kind differ.
const INDIVIDUAL: [&str; 2] = ["host", "disk"];

/// What the leader knows for keeping machines.
pub(super) struct YardState {
    pub supplier_calls: SupplierCalls,
    suppliers: BTreeMap<SupplierId, Row>,
    /// Pools that make machines, by id.
    pools: BTreeMap<PoolId, OwnedPool>,
    /// When the supplier took a machine's order.
    accepted: BTreeMap<MachineId, (Moment, String)>,
    /// What was last written of pools, and of suppliers' backoffs.
    written: BTreeMap<PoolId, PoolStanding>,
    backoffs: BTreeMap<SupplierId, SupplierBackoff>,
    /// Suppliers whose last list could not be had.
    list_failed: HashSet<SupplierId>,
    levels: BTreeMap<PoolId, QueueSample>,
}

impl YardState {
    /// Reads everything that a new leader has to know.
    pub async fn read(
        app: &App,
        connection: &mut Connection,
        paused: impl Fn(&OwnedPool) -> bool,
        now: Moment,
    ) -> pennine_store::Result<(YardState, Keeper, Vec<Machine>)> {
        let suppliers = supplier::list(connection).await?;
        let pools = pool::list(connection).await?;
        let managed_pools: Vec<ManagedPool> = pools
            .iter()
            .filter_map(|pool| capacity_state::managed_pool(pool, paused(pool), &suppliers))
            .collect();
        let machines = machine::existing(connection).await?;
        let keeper =
            capacity_state::read(connection, &managed_pools, &suppliers, &machines, now).await?;
        let yard = YardState {
            supplier_calls: SupplierCalls::new(app, suppliers.clone()),
            suppliers: suppliers.into_iter().map(|row| (row.id.0, row)).collect(),
            pools: pools
                .into_iter()
                .filter(|pool| pool.supply().is_some())
                .map(|pool| (pool.pool.id.0, pool))
                .collect(),
            accepted: machines
                .iter()
                .filter_map(|one| Some((one.id.0, (one.accepted_at?.0, one.reference.clone()))))
                .collect(),
            written: BTreeMap::new(),
            backoffs: BTreeMap::new(),
            list_failed: HashSet::new(),
            levels: BTreeMap::new(),
        };
        Ok((yard, keeper, machines))
    }

    fn rows(&self) -> Vec<Row> {
        self.suppliers.values().cloned().collect()
    }
}

impl Term<'_> {
    /// Goes on with what an earlier leader had begun.
    pub(super) fn resume_earlier_orders(&mut self, machines: Vec<Machine>) {
        for machine in machines {
            self.start_supplier_calls(machine);
        }
    }

    /// Has the suppliers do what a machine's record says is to be done.
    fn start_supplier_calls(&mut self, machine: Machine) {
        let yard = &mut self.yard;
        match machine.state.0 {
            MachineState::Ordered => {
                // Without its pool's policy the machine's profile is unknown.
                if let Some(supply) = yard
                    .pools
                    .get(&machine.pool_id.0)
                    .and_then(OwnedPool::supply)
                {
                    let order = order_of(self.app, &machine, supply);
                    yard.supplier_calls.order(machine, order);
                }
            }
            MachineState::Releasing => {
                let keep = machine.failed && machine.console.is_empty();
                yard.supplier_calls
                    .remove(machine.supplier_id.0, machine.id.0, keep);
            }
            _ => {}
        }
    }

    /// A pool is like this now.
    pub(super) fn pool_changed(&mut self, pool: &OwnedPool, now: Moment) {
        let view = self.calendar.pool(pool, self.calendar_at);
        let id = pool.pool.id.0;
        let policy = capacity_state::managed_pool(pool, view.paused, &self.yard.rows());
        if policy.is_some() {
            self.yard.pools.insert(id, pool.clone());
        } else {
            self.yard.pools.remove(&id);
            self.yard.written.remove(&id);
        }
        let event = engine::Event::Pool {
            view: Box::new(view),
            policy: policy.map(Box::new),
        };
        self.engine.apply(event, now);
    }

    /// Suppliers were added, changed or removed.
    pub(super) async fn suppliers_changed(&mut self, now: Moment) -> Result<(), TermEnd> {
        let mut connection = self.app.store.tasks().await?;
        let rows = supplier::list(&mut connection).await?;
        let before: BTreeSet<SupplierId> = self.yard.suppliers.keys().copied().collect();
        for gone in before
            .iter()
            .filter(|id| !rows.iter().any(|row| row.id.0 == **id))
        {
            self.engine.apply(Event::MakerGone(*gone), now);
        }
        for row in &rows {
            self.engine
                .apply(Event::Supplier(supplier_calls::maker(row)), now);
        }
        self.yard.supplier_calls.set(rows.clone());
        self.yard.suppliers = rows.into_iter().map(|row| (row.id.0, row)).collect();
        // A pool may name a supplier that is there only now; prices may be others.
        let pools: Vec<OwnedPool> = self.yard.pools.values().cloned().collect();
        for pool in pools {
            self.price(&mut connection, &pool, now).await?;
            self.pool_changed(&pool, now);
        }
        Ok(())
    }

    /// Sets a pool's price to what its supplier says of its size.
    pub(super) async fn price(
        &self,
        connection: &mut Connection,
        pool: &OwnedPool,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let Some(wanted) = pool.supply() else {
            return Ok(());
        };
        let row = self.yard.suppliers.values();
        let mut row = row.filter(|row| row.name == wanted.supplier);
        let Some(price) = row
            .next()
            .and_then(|row| supplier_calls::offer(row).sizes.get(&wanted.size).copied())
        else {
            return Ok(());
        };
        let known = pool.standing.as_ref().map(|standing| standing.price);
        if known != i64::try_from(price.0).ok()
            && pool::set_price(connection, pool.pool.id.0, price, now).await?
        {
            self.app.feed.kick();
        }
        Ok(())
    }

    /// Machines were changed, by this leader or by another actor.
    pub(super) async fn machines_changed(
        &mut self,
        ids: &BTreeSet<MachineId>,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let ids: Vec<Db<MachineId>> = ids.iter().map(|id| Db(*id)).collect();
        let mut connection = self.app.store.tasks().await?;
        for machine in machine::among(&mut connection, &ids).await? {
            let known = self.engine.capacity().machine_view(machine.id.0);
            let other = known.map(|view| view.state) != Some(machine.state.0);
            self.note_machine(&machine, now);
            // What this leader did itself is in hand already.
            if other && machine.state.0.exists() {
                self.start_supplier_calls(machine);
            }
        }
        Ok(())
    }

    fn note_machine(&mut self, machine: &Machine, now: Moment) {
        let id = machine.id.0;
        if !machine.state.0.exists() {
            self.yard.accepted.remove(&id);
        } else if let Some(at) = machine.accepted_at {
            let accepted = (at.0, machine.reference.clone());
            self.yard.accepted.insert(id, accepted);
        }
        self.engine.apply(Event::Machine(machine.view()), now);
        if machine.runner_retired {
            self.engine.apply(Event::Left(id), now);
        }
    }

    /// The runner of a machine has connected.
    pub(super) async fn machine_joined(
        &mut self,
        id: MachineId,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let reason = "its runner connected";
        self.step(id, MachineEvent::Join, reason, Detail::default(), now)
            .await?;
        match self.engine.capacity().machine_view(id).cloned() {
            Some(machine) if machine.state == MachineState::Joined => {
                self.learn(&machine, now).await
            }
            _ => Ok(()),
        }
    }

    /// Remembers what a pool's machines are, by the one that has just come.
    async fn learn(&mut self, machine: &MachineView, now: Moment) -> Result<(), TermEnd> {
        let mut connection = self.app.store.tasks().await?;
        let found = runner::list(&mut connection, Some(&[machine.runner])).await?;
        let (Some(found), Some(pool)) = (found.first(), self.yard.pools.get(&machine.pool)) else {
            return Ok(());
        };
        let discovered = DiscoveredFacts {
            labels: found.labels.clone(),
            facts: found.facts.0.clone(),
        };
        let alike = |one: &DiscoveredFacts| {
            let mut one = one.clone();
            one.facts
                .retain(|name, _| !INDIVIDUAL.contains(&name.as_str()));
            one
        };
        let known = pool.supplied().and_then(|one| one.discovered.as_ref());
        if known.is_some_and(|known| alike(&known.0) == alike(&discovered)) {
            return Ok(());
        }
        pool::learn(&mut connection, machine.pool, &discovered, now).await?;
        if let Some(pool) = pool::get(&mut connection, machine.pool).await? {
            self.pool_changed(&pool, now);
        }
        self.app.feed.kick();
        Ok(())
    }

    /// Writes a step of a machine's life down.
    async fn step(
        &mut self,
        id: MachineId,
        event: MachineEvent,
        reason: &str,
        detail: Detail,
        now: Moment,
    ) -> Result<Option<Machine>, TermEnd> {
        let mut connection = self.app.store.leader().await?;
        let stepped = machine::step(&mut connection, id, event, reason, &detail, now).await?;
        if let Some(machine) = &stepped {
            self.note_machine(machine, now);
            self.app.feed.kick();
        }
        Ok(stepped)
    }

    /// Writes what was decided down, and has it done.
    pub(super) async fn commit_plan(
        &mut self,
        decided: &CapacityPlan,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let standings: Vec<PoolStanding> = decided
            .pools
            .iter()
            .filter(|one| {
                self.yard.written.get(&one.pool).is_none_or(|known| {
                    (known.coming_slots, &known.short, known.full)
                        != (one.coming_slots, &one.short, one.full)
                })
            })
            .cloned()
            .collect();
        if decided.is_empty() && standings.is_empty() {
            return Ok(());
        }
        self.write(decided, standings, now).await
    }

    async fn write(
        &mut self,
        decided: &CapacityPlan,
        standings: Vec<PoolStanding>,
        now: Moment,
    ) -> Result<(), TermEnd> {
        let limit = |supplier: &SupplierId| {
            let row = self.yard.suppliers.get(supplier);
            row.map_or(Duration::ZERO, |row| supplier_calls::maker(row).boot_limit)
        };
        let new: Vec<NewMachine> = decided
            .orders
            .iter()
            .map(|order| NewMachine {
                id: order.machine,
                runner: order.runner,
                pool: order.pool,
                supplier: order.supplier,
                price: order.price,
                single_use: order.single_use,
                ticket: self.app.fresh_id(),
                secret_hash: secret::hash(&self.app.encryption.ticket(order.machine)),
                expires: now + limit(&order.supplier) + TICKET_EXTRA,
            })
            .collect();
        let decision = Decision {
            decided,
            new: &new,
            standings: &standings,
        };
        let mut connection = self.app.store.leader().await?;
        let Some(written) = capacity::commit(&mut connection, self.epoch, now, decision).await?
        else {
            return Err(TermEnd::Deposed);
        };
        drop(connection);
        self.app.feed.kick();
        for note in &decided.notes {
            let pool = self.yard.pools.get(&note.pool);
            let pool = pool.map_or("", |pool| &pool.pool.name);
            tracing::info!(pool, verb = note.verb, "{}", note.message);
        }
        for machine in written.ordered.into_iter().chain(written.released) {
            self.note_machine(&machine, now);
            self.start_supplier_calls(machine);
        }
        for one in standings {
            self.yard.written.insert(one.pool, one);
        }
        Ok(())
    }

    /// What time alone brings: suppliers are looked at, pools' readings taken, numbers written.
    pub(super) async fn keep_machines(&mut self, now: Moment) -> Result<(), TermEnd> {
        self.yard.supplier_calls.poll_suppliers(now);
        let mut changed: Vec<_> = self.engine.dispatch().levels().into_iter().collect();
        changed.retain(|(pool, level)| self.yard.levels.get(pool) != Some(level));
        if !changed.is_empty() {
            let mut connection = self.app.store.tasks().await?;
            capacity::write_levels(&mut connection, now, &changed).await?;
            self.yard.levels.extend(changed);
        }
        if self.yard.pools.is_empty() {
            return Ok(());
        }
        self.decide().await?;
        let numbers: Vec<PoolStanding> = self
            .engine
            .capacity()
            .standings()
            .filter(|one| self.yard.written.get(&one.pool) != Some(one))
            .cloned()
            .collect();
        if !numbers.is_empty() {
            self.write(&CapacityPlan::default(), numbers, now).await?;
        }
        Ok(())
    }
}
