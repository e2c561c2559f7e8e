//! How much of which offer a demand is served from, at the least cost: a few numbers, however many jobs there are.

use crate::dispatch::runner_index::Demand;

/// Slots of one class of future machines, at one cost.
#[derive(Clone, Copy, Debug)]
pub(super) struct Offer {
    pub class: usize,
    pub slots: u32,
}

/// Returns how many slots of each offer are used; the offers are in order of preference.
///
/// As many jobs are served as can be, and among the ways of doing so the one is taken that uses the earlier offers most:
/// the sets of slots that can be matched to jobs are the independent sets of a transversal matroid, on which taking the
/// cheapest that still fits is optimal (J. Edmonds, "Matroids and the greedy algorithm", 1971). An offer that no waiting
/// job could use directly is used by moving others to it along an augmenting path.
pub(super) fn served(demands: &[Demand], offers: &[Offer]) -> Vec<u32> {
    let mut flow = Flow {
        demands,
        offers,
        left: demands.iter().map(|demand| demand.waiting).collect(),
        amounts: vec![0; demands.len() * offers.len()],
    };
    let mut used = Vec::with_capacity(offers.len());
    for (at, offer) in offers.iter().enumerate() {
        let mut free = offer.slots;
        for demand in 0..demands.len() {
            if flow.fits(demand, at) {
                let some = flow.unserved(demand).min(free);
                flow.serve(demand, at, some);
                free -= some;
            }
        }
        while free > 0 && flow.left.iter().any(|left| *left > 0) {
            let moved = flow.move_others(at, free);
            if moved == 0 {
                break;
            }
            free -= moved;
        }
        used.push(offer.slots - free);
    }
    used
}

struct Flow<'a> {
    demands: &'a [Demand],
    offers: &'a [Offer],
    /// Of each demand: the jobs that no offer serves yet.
    left: Vec<u32>,
    /// By demand, then by offer: how many of its jobs are served from it.
    amounts: Vec<u32>,
}

impl Flow<'_> {
    fn fits(&self, demand: usize, offer: usize) -> bool {
        let (Some(demand), Some(offer)) = (self.demands.get(demand), self.offers.get(offer)) else {
            return false;
        };
        demand.futures.binary_search(&offer.class).is_ok()
    }

    fn unserved(&self, demand: usize) -> u32 {
        self.left.get(demand).copied().unwrap_or(0)
    }

    fn amount(&mut self, demand: usize, offer: usize) -> Option<&mut u32> {
        self.amounts.get_mut(demand * self.offers.len() + offer)
    }

    fn serve(&mut self, demand: usize, offer: usize, jobs: u32) {
        if let Some(left) = self.left.get_mut(demand) {
            *left -= jobs;
        }
        if let Some(amount) = self.amount(demand, offer) {
            *amount += jobs;
        }
    }

    /// Serves jobs from an offer that none of the unserved ones can use: others move to it, and so on, until one leaves a
    /// slot that an unserved one can use. Returns how many, at most `free`.
    fn move_others(&mut self, offer: usize, free: u32) -> u32 {
        // Breadth first, from the offer backwards. Of each demand found: the offer to which its jobs would move; of each
        // offer found: the demand whose jobs would leave it.
        let mut goes_to: Vec<Option<usize>> = vec![None; self.demands.len()];
        let mut left_by: Vec<Option<usize>> = vec![None; self.offers.len()];
        let mut queue = vec![offer];
        let mut next = 0;
        while let Some(target) = queue.get(next).copied() {
            next += 1;
            for demand in 0..self.demands.len() {
                if !self.fits(demand, target) {
                    continue;
                }
                match goes_to.get_mut(demand) {
                    Some(to @ None) => *to = Some(target),
                    _ => continue,
                }
                if self.unserved(demand) > 0 {
                    return self.shift(demand, &goes_to, &left_by, free);
                }
                for from in (0..self.offers.len()).filter(|from| *from != offer) {
                    let leaves = self.amount(demand, from).is_some_and(|amount| *amount > 0);
                    if let Some(found @ None) = left_by.get_mut(from)
                        && leaves
                    {
                        *found = Some(demand);
                        queue.push(from);
                    }
                }
            }
        }
        0
    }

    /// Moves as many jobs as can be along the path that was found, from an unserved demand on. Returns how many.
    fn shift(
        &mut self,
        first: usize,
        goes_to: &[Option<usize>],
        left_by: &[Option<usize>],
        free: u32,
    ) -> u32 {
        let to = |demand: usize| goes_to.get(demand).copied().flatten();
        // Each step: the jobs of a demand leave an offer for another.
        let mut steps: Vec<(usize, usize, usize)> = Vec::new();
        let Some(begin) = to(first) else { return 0 };
        let mut target = begin;
        while let Some(mover) = left_by.get(target).copied().flatten()
            && let Some(goes) = to(mover)
        {
            steps.push((mover, target, goes));
            target = goes;
        }
        let mut jobs = self.unserved(first).min(free);
        for (demand, from, _) in &steps {
            jobs = jobs.min(self.amount(*demand, *from).map_or(0, |amount| *amount));
        }
        for (demand, from, goes) in steps {
            if let Some(amount) = self.amount(demand, from) {
                *amount -= jobs;
            }
            if let Some(amount) = self.amount(demand, goes) {
                *amount += jobs;
            }
        }
        self.serve(first, begin, jobs);
        jobs
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The least cost at which the most jobs can be served: every way of giving each slot to a demand or to none.
    fn best(demands: &[Demand], offers: &[Offer]) -> (u32, u64) {
        fn go(slots: &[(usize, u64)], demands: &[Demand], left: &mut [u32]) -> (u32, u64) {
            let Some(((class, cost), rest)) = slots.split_first() else {
                return (0, 0);
            };
            let mut best = go(rest, demands, left);
            for at in 0..demands.len() {
                if left[at] > 0 && demands[at].futures.contains(class) {
                    left[at] -= 1;
                    let (served, paid) = go(rest, demands, left);
                    left[at] += 1;
                    let this = (served + 1, paid + cost);
                    if this.0 > best.0 || (this.0 == best.0 && this.1 < best.1) {
                        best = this;
                    }
                }
            }
            best
        }
        let slots: Vec<(usize, u64)> = offers
            .iter()
            .enumerate()
            .flat_map(|(at, offer)| {
                std::iter::repeat_n((offer.class, 1 << at), offer.slots as usize)
            })
            .collect();
        let mut left: Vec<u32> = demands.iter().map(|demand| demand.waiting).collect();
        go(&slots, demands, &mut left)
    }

    proptest! {
        #[test]
        fn as_many_are_served_as_can_be_from_the_cheapest_offers(
            demands in prop::collection::vec((prop::collection::btree_set(0usize..4, 1..4), 0u32..4), 1..4),
            offers in prop::collection::vec((0usize..4, 0u32..3), 1..5),
        ) {
            let demands: Vec<Demand> = demands
                .into_iter()
                .map(|(futures, waiting)| Demand { futures: futures.into_iter().collect(), waiting, seated: 0 })
                .collect();
            let offers: Vec<Offer> = offers.into_iter().map(|(class, slots)| Offer { class, slots }).collect();
            let used = served(&demands, &offers);
            for (offer, used) in offers.iter().zip(&used) {
                prop_assert!(used <= &offer.slots);
            }
            let cost = used.iter().enumerate().map(|(at, used)| u64::from(*used) << at).sum();
            prop_assert_eq!((used.iter().sum(), cost), best(&demands, &offers));
        }
    }
}
