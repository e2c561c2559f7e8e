//! In which order the classes of a kind are given away: the abilities that others ask for now come last.

use super::RunnerIndex;
use crate::dispatch::inconsistency::Problem;
use fixedbitset::FixedBitSet;

impl RunnerIndex {
    /// Adds to the number of waiting or running jobs with a requirement.
    pub(super) fn count_use(&mut self, requirement: usize, more: i64) {
        let Some(wanted) = self.wanted.get_mut(requirement) else {
            return;
        };
        let was_used = wanted.in_use > 0;
        match wanted.in_use.checked_add_signed(more) {
            Some(in_use) => wanted.in_use = in_use,
            None => {
                self.broken.get_or_insert(Problem::GivenBackTwice("jobs"));
            }
        }
        let is_used = wanted.in_use > 0;
        if was_used == is_used || self.is_unranked {
            return;
        }
        let share = self.shares.get(requirement).copied().unwrap_or(0);
        for (class, potential) in self.classes.iter().zip(&mut self.potentials) {
            if class.satisfied.contains(requirement) {
                *potential = if is_used {
                    potential.saturating_add(share)
                } else {
                    potential.saturating_sub(share)
                };
            }
        }
        self.version += 1;
    }

    /// The classes of a kind in the order in which they are best given.
    pub fn sort_classes(&mut self, kind: usize) {
        let version = self.version;
        let Some(found) = self.kinds.get(kind) else {
            return;
        };
        if found.sorted == version {
            return;
        }
        self.rank_classes();
        let Some(found) = self.kinds.get(kind) else {
            return;
        };
        let mut keyed: Vec<((u64, u64), usize)> = found
            .classes
            .iter()
            .map(|at| (self.rank(*at), *at))
            .collect();
        keyed.sort_unstable();
        if let Some(found) = self.kinds.get_mut(kind) {
            found.classes = keyed.into_iter().map(|(_, at)| at).collect();
            found.sorted = version;
        }
    }

    /// How gladly a class is given away: what its abilities could be worth to others, then what one of its machines
    /// costs.
    pub fn rank(&self, class: usize) -> (u64, u64) {
        let price = self
            .class(class)
            .and_then(|class| self.pools.get(&class.pool))
            .map_or(0, |pool| pool.price.0);
        (
            self.potentials.get(class).copied().unwrap_or_default(),
            price,
        )
    }

    /// Works out how much each class's abilities are wanted, where classes have come or gone since: for each requirement
    /// that jobs ask for now, waiting or running, and that the class satisfies, one part in as many classes as satisfy
    /// it, in millionths. Among the classes of one kind, the one with the least has the least to offer to others.
    fn rank_classes(&mut self) {
        if !std::mem::take(&mut self.is_unranked) {
            return;
        }
        let mut rivals = vec![0u64; self.wanted.len()];
        let present = self
            .classes
            .iter()
            .filter(|class| class.takes + class.paused + class.offline > 0);
        for class in present {
            for wanted in class.satisfied.ones() {
                if let Some(count) = rivals.get_mut(wanted) {
                    *count += 1;
                }
            }
        }
        self.shares = rivals
            .into_iter()
            .map(|count| 1_000_000 / count.max(1))
            .collect();
        let used: Vec<u64> = self
            .wanted
            .iter()
            .zip(&self.shares)
            .map(|(wanted, share)| if wanted.in_use > 0 { *share } else { 0 })
            .collect();
        let share = |wanted: usize| used.get(wanted).copied().unwrap_or(0);
        self.potentials = self
            .classes
            .iter()
            .map(|class| class.satisfied.ones().map(share).sum())
            .collect();
    }

    /// Demand of the waiting jobs of other kinds for a class: the sum over those kinds of the jobs that wait for
    /// each slot which could take them. In millionths.
    pub fn demand(&self, class: usize, kind: usize, waiting: &FixedBitSet) -> u64 {
        let Some(class) = self.class(class) else {
            return 0;
        };
        class
            .kinds
            .intersection(waiting)
            .filter(|other| *other != kind)
            .filter_map(|other| self.kind(other))
            .map(|other| {
                let slots: u64 = other
                    .classes
                    .iter()
                    .filter_map(|at| self.class(*at))
                    .map(|class| u64::from(class.slots))
                    .sum();
                u64::from(other.waiting) * 1_000_000 / slots.max(1)
            })
            .sum()
    }
}
