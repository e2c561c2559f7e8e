//! The machines of a simulation: what suppliers, machines and the record do between two decisions.

use super::{OrderResult, World};
use crate::capacity::{self, MachineView, Order, Release, Scope};
use crate::dispatch::{self, RunnerView};
use crate::engine::{Engine, Settlement};
use crate::id::{MachineId, RunnerId};
use crate::lifecycle::machine::MachineEvent;
use crate::lifecycle::runner::{DesiredState, RunnerState};
use crate::time::Moment;
use std::collections::{BTreeMap, BTreeSet};

/// What happens to a machine at some moment.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum MachineStep {
    Connects,
    IsGone,
}

#[derive(Default)]
pub(super) struct Machines {
    /// Runners that connect once their machine has booted.
    booting: BTreeMap<MachineId, RunnerView>,
    steps: BTreeSet<(Moment, MachineId, MachineStep)>,
}

impl Machines {
    pub(super) fn next(&self) -> Option<Moment> {
        self.steps.first().map(|(at, ..)| *at)
    }

    /// Carries out what is due: booted machines connect, removed ones are gone.
    pub(super) fn run_due(&mut self, engine: &mut Engine, now: Moment) {
        while let Some((at, machine, step)) = self.steps.first().copied()
            && at <= now
        {
            self.steps.remove(&(at, machine, step));
            match step {
                MachineStep::Connects => {
                    if let Some(view) = self.booting.remove(&machine) {
                        engine.apply(dispatch::Event::Runner(Box::new(view)), now);
                    }
                }
                MachineStep::IsGone => {
                    transition(engine, machine, MachineEvent::Vanish { failed: false }, now);
                }
            }
        }
    }

    /// A job began on a runner: a single-use one takes no other.
    pub(super) fn job_began(&self, engine: &mut Engine, runner: RunnerId, now: Moment) {
        if is_single_use(engine, runner) {
            set_runner(engine, runner, now, |view| {
                view.desired_state = DesiredState::Drain
            });
        }
    }

    /// A job ended on a runner: a single-use one leaves.
    pub(super) fn job_ended(&self, engine: &mut Engine, runner: RunnerId, now: Moment) {
        if is_single_use(engine, runner) {
            set_runner(engine, runner, now, |view| {
                view.state = RunnerState::Retired
            });
        }
    }

    /// Does what was decided, as suppliers, machines and the record would.
    pub(super) fn carry_out(
        &mut self,
        engine: &mut Engine,
        world: &mut impl World,
        settlement: &Settlement,
        now: Moment,
    ) {
        for machine in &settlement.joined {
            transition(engine, *machine, MachineEvent::Join, now);
        }
        for order in &settlement.decided.orders {
            let result = world.ordered(order, now);
            self.answer(engine, order, result, now);
        }
        for Release { machine, .. } in &settlement.decided.releases {
            self.booting.remove(machine);
            let gone = now + world.removal(*machine);
            self.steps.insert((gone, *machine, MachineStep::IsGone));
            let runner = engine
                .capacity()
                .machine_view(*machine)
                .map(|view| view.runner);
            if let Some(runner) = runner {
                set_runner(engine, runner, now, |view| {
                    view.state = RunnerState::Retired
                });
            }
        }
        for drain in &settlement.decided.drains {
            set_runner(engine, drain.runner, now, |view| {
                view.desired_state = DesiredState::Drain;
            });
        }
    }

    fn answer(&mut self, engine: &mut Engine, order: &Order, result: OrderResult, now: Moment) {
        match result {
            OrderResult::Refused { reason } => {
                transition(engine, order.machine, MachineEvent::Refuse, now);
                let fault = capacity::Event::Fault {
                    supplier: order.supplier,
                    pool: order.pool,
                    scope: Scope::Supplier,
                    message: reason,
                    jitter: 0.5,
                    retry_after: None,
                };
                engine.apply(fault, now);
            }
            OrderResult::NeverBoots => {
                transition(engine, order.machine, MachineEvent::Accept, now);
            }
            OrderResult::Boots { after, runner } => {
                transition(engine, order.machine, MachineEvent::Accept, now);
                let view = RunnerView {
                    id: order.runner,
                    pool: order.pool,
                    state: RunnerState::Available,
                    desired_state: DesiredState::Work,
                    ..*runner
                };
                self.booting.insert(order.machine, view);
                self.steps
                    .insert((now + after, order.machine, MachineStep::Connects));
            }
        }
    }
}

fn is_single_use(engine: &Engine, runner: RunnerId) -> bool {
    let capacity = engine.capacity();
    capacity
        .machine_of(runner)
        .and_then(|machine| capacity.machine_view(machine))
        .is_some_and(|machine| machine.single_use)
}

fn set_runner(
    engine: &mut Engine,
    runner: RunnerId,
    now: Moment,
    change: impl FnOnce(&mut RunnerView),
) {
    if let Some(view) = engine.dispatch().runner_view(runner) {
        let mut view = Box::new(view.clone());
        change(&mut view);
        engine.apply(dispatch::Event::Runner(view), now);
    }
}

/// A machine takes a step of its life, if it can.
fn transition(engine: &mut Engine, machine: MachineId, event: MachineEvent, now: Moment) {
    let Some(before) = engine.capacity().machine_view(machine).cloned() else {
        return;
    };
    if let Ok(state) = before.state.after(event) {
        let ended = (!state.exists()).then_some(now);
        let view = MachineView {
            state,
            ended,
            ..before
        };
        engine.apply(capacity::Event::Machine(view), now);
    }
}
