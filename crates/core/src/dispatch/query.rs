//! What can be asked of the queue and the yard.

use super::reason::SeatReservations;
use super::state::State;
use super::yard::{Availability, PoolView, RunnerLoad, RunnerView};
use crate::id::{PoolId, RunnerId, StrandId};
use crate::queue_sample::QueueSample;
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;
use std::time::Duration;

impl State {
    /// When the order of the waiting jobs changes next by itself.
    pub fn next_climb(&self) -> Option<Moment> {
        self.climbs.first().map(|(at, _)| *at)
    }

    /// How many jobs wait for a runner.
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// How many slots the runners that take work have, and how many of them are free.
    pub fn slots(&self) -> (u64, u64) {
        self.field
            .classes
            .iter()
            .fold((0, 0), |(all, free), class| {
                (
                    all + u64::from(class.slots),
                    free + u64::from(class.free_slots),
                )
            })
    }

    /// How a runner stands.
    pub fn load_of(&self, id: RunnerId) -> Option<RunnerLoad> {
        let runner = self.field.runners.get(&id)?;
        Some(RunnerLoad {
            willingness: self.field.willingness(&runner.view),
            used: u32::try_from(runner.holds.len()).unwrap_or(u32::MAX),
            idle_since: runner.idle_since,
            drains: runner.view.drains(),
        })
    }

    /// The runners whose load may be another than when this was last asked.
    pub fn take_changed_loads(&mut self) -> Vec<RunnerId> {
        self.field.take_changed()
    }

    /// The pool as last told.
    pub fn pool_view(&self, id: PoolId) -> Option<&PoolView> {
        self.field.pools.get(&id)
    }

    /// How many slots of a runner are in use.
    pub fn used_by(&self, runner: RunnerId) -> usize {
        self.holders
            .values()
            .filter(|held| held.runner == runner)
            .count()
    }

    /// Slots of machines that are being made.
    pub fn coming(&self) -> u32 {
        self.field.pools.values().map(|pool| pool.coming).sum()
    }

    /// How each pool stands: the jobs that wait and that it could take, and its slots.
    pub fn levels(&self) -> BTreeMap<PoolId, QueueSample> {
        let pools = self.field.pools.values();
        let mut levels: BTreeMap<PoolId, (QueueSample, FixedBitSet)> = pools
            .map(|pool| {
                let level = QueueSample {
                    coming: pool.coming,
                    ..QueueSample::default()
                };
                let kinds = FixedBitSet::with_capacity(self.field.kinds.len());
                (pool.id, (level, kinds))
            })
            .collect();
        for class in &self.field.classes {
            let Some((level, kinds)) = levels.get_mut(&class.pool) else {
                continue;
            };
            level.idle += class.free_slots;
            if class.future || class.takes + class.paused + class.offline > 0 {
                kinds.union_with(&class.kinds);
            }
        }
        for runner in self.field.runners.values() {
            if let Some((level, _)) = levels.get_mut(&runner.view.pool) {
                level.executing += u32::try_from(runner.holds.len()).unwrap_or(u32::MAX);
            }
        }
        let waiting = |kinds: &FixedBitSet| {
            let kinds = kinds.ones().filter_map(|kind| self.field.kind(kind));
            kinds.map(|kind| kind.waiting).sum()
        };
        levels
            .into_iter()
            .map(|(pool, (level, kinds))| {
                let waiting = waiting(&kinds);
                (pool, QueueSample { waiting, ..level })
            })
            .collect()
    }

    /// Which seats are kept back, for jobs that need several.
    pub fn kept_back(&self) -> &SeatReservations {
        &self.claims
    }

    /// How many slots are in use, on whatever runner.
    pub fn used(&self) -> usize {
        self.holders.len()
    }

    /// Slot-time that a place used recently, decayed to this moment, and the slots that it holds.
    pub fn share(&self, path: &str, now: Moment) -> Option<(Duration, u32)> {
        let place = self.tree.known(path)?;
        let recent = self.tree.recent(place, &self.scale, self.scale.growth(now));
        Some((recent, self.tree.load(place).0))
    }

    /// Seats of a name: how many there are, and how many are taken.
    pub fn seats_of(&self, name: &str) -> Option<(u32, u32)> {
        self.seats.get(name).map(|seat| (seat.count, seat.taken))
    }

    /// The runner as last told, if it is known.
    pub fn runner_view(&self, id: RunnerId) -> Option<&RunnerView> {
        self.field.runners.get(&id).map(|runner| &runner.view)
    }

    /// Every runner as last told.
    pub fn runner_views(&self) -> impl Iterator<Item = &RunnerView> {
        self.field.runners.values().map(|runner| &runner.view)
    }

    /// Whether the strand is known.
    pub fn knows_strand(&self, id: StrandId) -> bool {
        self.by_strand.contains_key(&id)
    }

    /// How willing a runner is, its pool minded.
    pub fn willingness(&self, view: &RunnerView) -> Availability {
        self.field.willingness(view)
    }
}
