//! Which machines that are yet to come the waiting jobs would use: for the order of machines, and for the reasons of the
//! jobs for which they come.
//!
//! Kinds that may use the same future machines are one *demand*. Where neither limits nor seats are in the way, which of
//! its jobs are served does not matter, and a few numbers answer (`served`). Where they are, the jobs are walked through
//! in order, as a batch does.

mod served;

use super::flow::{Flow, Slots};
use super::state::{MachineCover, SelectedJob, State};
use super::yard::{PoolRoom, Price};
use crate::id::PoolId;
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use served::{Offer, served};
use std::collections::BTreeMap;

impl State {
    /// How many slots of further machines the waiting jobs would use in each pool, if they were ordered: those of the pools
    /// whose machines are coming already first, and then the cheapest.
    pub fn wants(
        &mut self,
        now: Moment,
        room: &BTreeMap<PoolId, PoolRoom>,
    ) -> BTreeMap<PoolId, u32> {
        self.field.group_demands();
        if self.field.demanded() == 0 {
            return BTreeMap::new();
        }
        if self.order_matters() {
            return self.wants_in_order(now, room);
        }
        let mut offers = Vec::new();
        for (pool, class) in self.field.futures() {
            let (Some(room), Some(view)) = (room.get(pool), self.field.pools.get(pool)) else {
                continue;
            };
            let per_slot = Price(view.price.0 / u64::from(room.slots.max(1)));
            let versatile = self.versatility(*class);
            for (slots, is_new) in [(room.coming, false), (room.more, true)] {
                let rank = (is_new, per_slot, versatile, *pool);
                let class = *class;
                offers.push((rank, Offer { class, slots }));
            }
        }
        offers.sort_unstable_by_key(|(rank, _)| *rank);
        let (ranks, offers): (Vec<_>, Vec<_>) = offers.into_iter().unzip();
        let taken = served(self.field.demands(), &offers);
        let mut wanted: BTreeMap<PoolId, u32> = BTreeMap::new();
        for ((.., pool), slots) in ranks.into_iter().zip(taken) {
            if slots > 0 {
                *wanted.entry(pool).or_default() += slots;
            }
        }
        wanted
    }

    /// How many kinds of job a class could run.
    fn versatility(&self, class: usize) -> usize {
        self.field
            .class(class)
            .map_or(0, |class| class.kinds.count_ones(..))
    }

    /// Whether limits or seats decide which of the waiting jobs future machines would serve.
    fn order_matters(&self) -> bool {
        self.tree.limits_bind() || self.field.demands().iter().any(|one| one.seated > 0)
    }

    /// The same, job by job in order.
    fn wants_in_order(
        &mut self,
        now: Moment,
        room: &BTreeMap<PoolId, PoolRoom>,
    ) -> BTreeMap<PoolId, u32> {
        let slots = self.field.futures().iter().filter_map(|(pool, class)| {
            let room = room.get(pool)?;
            let all = room.coming.saturating_add(room.more);
            (all > 0).then_some((*class, all))
        });
        let slots = slots.collect();
        let mut wanted: BTreeMap<PoolId, u32> = BTreeMap::new();
        self.serve_future_slots(now, slots, |state, flow, kept| {
            for one in kept {
                let Some(own) = flow.class_of(&state.field, one.head.kind) else {
                    continue;
                };
                let mut best: Vec<((bool, Price, usize), PoolId, usize)> = state
                    .field
                    .kind(one.head.kind)
                    .into_iter()
                    .flat_map(|kind| kind.classes.iter())
                    .filter_map(|at| {
                        let class = state.field.class(*at).filter(|class| class.future)?;
                        let room = room.get(&class.pool)?;
                        let price = state.field.pools.get(&class.pool)?.price;
                        let taken = wanted.get(&class.pool).copied().unwrap_or(0);
                        let to_make = taken >= room.coming;
                        let per_slot = Price(price.0 / u64::from(room.slots.max(1)));
                        let versatile = class.kinds.count_ones(..);
                        Some(((to_make, per_slot, versatile), class.pool, *at))
                    })
                    .collect();
                best.sort_unstable();
                for (_, pool, class) in best {
                    if flow.take_in(&state.field, class, own, one.head.kind) {
                        *wanted.entry(pool).or_default() += 1;
                        // A chosen slot is no longer available to later jobs.
                        flow.use_up(class);
                        break;
                    }
                }
            }
        });
        wanted
    }

    /// For which waiting jobs machines are coming.
    pub(super) fn cover(&mut self, now: Moment) -> MachineCover {
        self.field.group_demands();
        let coming: Vec<Offer> = self
            .field
            .futures()
            .values()
            .filter_map(|class| {
                let slots = self.field.class(*class)?.coming;
                (slots > 0).then_some(Offer {
                    class: *class,
                    slots,
                })
            })
            .collect();
        let demanded = self.field.demanded();
        if coming.is_empty() || demanded == 0 {
            return MachineCover::Some(BTreeMap::new());
        }
        if !self.order_matters() {
            let taken = served(self.field.demands(), &coming);
            if taken.into_iter().map(u64::from).sum::<u64>() == demanded {
                return MachineCover::All;
            }
        }
        let slots = coming.iter().map(|offer| (offer.class, offer.slots));
        let mut covered = BTreeMap::new();
        self.serve_future_slots(now, slots.collect(), |_, _, kept| {
            for one in kept {
                *covered.entry(one.head.strand).or_default() += 1;
            }
        });
        MachineCover::Some(covered)
    }

    /// How many of a strand's jobs machines are coming for.
    pub(super) fn covered_of(&self, at: usize) -> u32 {
        match &self.covered {
            MachineCover::Some(covered) => covered.get(&at).copied().unwrap_or(0),
            MachineCover::All => self.strands.get(at).map_or(0, |strand| {
                let served = strand.kind.is_some_and(|kind| self.field.uses_future(kind));
                let waiting = u32::try_from(strand.queue.len()).unwrap_or(u32::MAX);
                if served { waiting } else { 0 }
            }),
        }
    }

    /// Whether a strand's reasons count how many of its jobs machines are coming for.
    pub(super) fn is_covered_in_part(&self, at: usize) -> bool {
        matches!(&self.covered, MachineCover::Some(covered) if covered.contains_key(&at))
    }

    /// Strands in which jobs wait that a future machine could run.
    pub(super) fn strands_of_demands(&self) -> Vec<usize> {
        let kinds = self.field.kinds.iter().enumerate();
        kinds
            .filter(|(at, kind)| kind.waiting > 0 && self.field.uses_future(*at))
            .flat_map(|(_, kind)| kind.strands.iter().copied())
            .collect()
    }

    /// What would be kept if there were these slots of machines that are yet to come. Nothing changes.
    fn serve_future_slots(
        &mut self,
        now: Moment,
        slots: FxHashMap<usize, u32>,
        mut look: impl FnMut(&State, &mut Flow, &[SelectedJob]),
    ) {
        let mut open = FixedBitSet::with_capacity(self.field.kinds.len());
        for class in slots.keys().filter_map(|at| self.field.class(*at)) {
            open.union_with(&class.kinds);
        }
        if open.is_clear() {
            return;
        }
        self.close_seats(&mut open);
        let mut flow = Flow::new(Slots::Future(slots));
        let before = self.tree.usages();
        let mut kept = Vec::new();
        self.walk(now, &mut flow, &mut open, &mut kept);
        look(self, &mut flow, &kept);
        // It was only supposed: everything goes back to where it was.
        for one in kept.into_iter().rev() {
            self.put_back(one, now);
        }
        self.tree.restore_usages(before);
    }
}
