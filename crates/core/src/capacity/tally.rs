//! A pool's machines by what they are good for.

use super::bounds::Bounds;
use super::decided::Numbers;
use super::keeper::{Keeper, MachineView};
use crate::dispatch::{Price, RunnerView, State, Willingness};
use crate::id::{MachineId, PoolId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use std::collections::BTreeMap;
use std::time::Duration;

/// A machine whose runner is away this long is given up.
const AWAY: Duration = Duration::from_secs(120);

/// A pool's machines by how they stand.
#[derive(Clone, Default)]
pub(super) struct Tally {
    pub(super) numbers: Numbers,
    /// Those without a job, and since when, the one idle longest first.
    pub(super) idle: Vec<(Moment, MachineId)>,
    /// Those on their way, the one ordered last first.
    pub(super) coming: Vec<MachineId>,
    /// Those with a job that would take another.
    pub(super) busy: Vec<MachineId>,
    /// Those with nothing more to do here.
    pub(super) over: Vec<(MachineId, String, bool)>,
    pub(super) paid: Vec<(Price, Moment)>,
}

/// What one supplier has, for all pools.
#[derive(Clone, Copy, Default)]
pub(super) struct Load {
    pub(super) there: u32,
    /// Whether it is being asked for a machine just now.
    pub(super) asked: bool,
}

impl Keeper {
    /// Notes since when the runners of machines are away.
    pub(super) fn note_away(&mut self, state: &State, now: Moment) {
        let (machines, away) = (&self.machines, &mut self.away);
        for machine in machines.values() {
            let gone = machine.state == MachineState::Joined
                && state
                    .load_of(machine.runner)
                    .is_none_or(|(willing, _, _)| willing == Willingness::Offline);
            if gone {
                away.entry(machine.id).or_insert(now);
            } else {
                away.remove(&machine.id);
            }
        }
    }

    pub(super) fn tallies(
        &self,
        state: &State,
        now: Moment,
    ) -> (BTreeMap<PoolId, Tally>, BTreeMap<SupplierId, Load>) {
        let mut tallies: BTreeMap<PoolId, Tally> = BTreeMap::new();
        let mut loads: BTreeMap<SupplierId, Load> = BTreeMap::new();
        for machine in self.machines.values() {
            let load = loads.entry(machine.supplier).or_default();
            load.there += 1;
            load.asked |= machine.state == MachineState::Ordered;
            let tally = tallies.entry(machine.pool).or_default();
            tally.paid.push((machine.price, machine.ordered));
            self.count(tally, state, machine, now);
        }
        for tally in tallies.values_mut() {
            tally.idle.sort_unstable();
            // Ids are in the order in which they were made.
            tally.coming.reverse();
        }
        (tallies, loads)
    }

    /// Counts one machine as what it is good for.
    fn count(&self, tally: &mut Tally, state: &State, machine: &MachineView, now: Moment) {
        if machine.state == MachineState::Releasing {
            tally.numbers.releasing += 1;
            return;
        }
        let care = self.pools.get(&machine.pool);
        let retired = self.left.contains(&machine.id);
        let mut over = |why: String, failed: bool| {
            tally.numbers.leaving += 1;
            tally.over.push((machine.id, why, failed));
        };
        if retired {
            let why = match (machine.state, machine.single_use) {
                (MachineState::Joined, true) => "its one job is done",
                (MachineState::Joined, false) => "its runner has left",
                _ => "its runner was retired before it came",
            };
            return over(why.to_owned(), machine.state.is_coming());
        }
        let load = state.load_of(machine.runner);
        let (willing, used, idle_since) = match load {
            Some((Willingness::Offline, _, _)) | None if machine.state.is_coming() => {
                let limit = self
                    .makers
                    .get(&machine.supplier)
                    .map_or(Duration::MAX, |maker| maker.boot_limit);
                if now.since(machine.ordered) > limit {
                    let limit = crate::time::spoken(limit);
                    return over(format!("its runner did not connect within {limit}"), true);
                }
                if care.is_none() {
                    return over("its pool makes no machines any more".to_owned(), false);
                }
                tally.numbers.coming += 1;
                tally.coming.push(machine.id);
                return;
            }
            Some((Willingness::Offline, _, _)) | None => {
                let away = self
                    .away
                    .get(&machine.id)
                    .map_or(Duration::ZERO, |at| now.since(*at));
                if away > AWAY {
                    let away = crate::time::spoken(AWAY);
                    return over(format!("its runner was away for {away}"), false);
                }
                tally.numbers.leaving += 1;
                return;
            }
            Some(load) => load,
        };
        let draining = state
            .runner_view(machine.runner)
            .is_some_and(RunnerView::drains);
        match (willing, used) {
            (Willingness::Takes, 0) if care.is_none() => {
                over("its pool makes no machines any more".to_owned(), false);
            }
            (Willingness::Takes, 0) => {
                tally.numbers.idle += 1;
                tally.idle.push((idle_since, machine.id));
            }
            // It is used up: what it does now is the last that it does.
            (_, 1..) if machine.single_use || draining => tally.numbers.leaving += 1,
            (Willingness::Takes, _) => {
                tally.numbers.busy += 1;
                tally.busy.push(machine.id);
            }
            (_, 0) if draining => {
                let why = if machine.single_use {
                    "its one job is done"
                } else {
                    "it was told to finish, and has"
                };
                over(why.to_owned(), false);
            }
            // A person keeps it.
            _ => tally.numbers.leaving += 1,
        }
    }
}

impl Tally {
    /// How many machines there should be: the one number by which it is ordered and released.
    pub(super) fn keep(&self, bounds: &Bounds, slots: u32, waiting: u32) -> u32 {
        let numbers = &self.numbers;
        let serve = waiting.div_ceil(slots.max(1));
        let keep = bounds
            .floor
            .max(numbers.busy + serve.saturating_add(bounds.spare));
        if bounds.spent {
            return numbers.busy;
        }
        keep.min(bounds.cap.saturating_sub(numbers.leaving))
            .max(numbers.busy.min(bounds.cap))
    }
}
