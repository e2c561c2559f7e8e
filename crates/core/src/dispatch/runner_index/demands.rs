//! How many jobs of which kinds wait and run, and which of them future machines could run.

use super::{Demand, MOST_UNUSED_KINDS, RunnerIndex};
use crate::dispatch::inconsistency::Problem;
use rustc_hash::FxHashMap;

impl RunnerIndex {
    /// Adds to the number of waiting jobs of a kind.
    pub fn count_waiting(&mut self, kind: usize, more: i64) {
        let Some(found) = self.kinds.get_mut(kind) else {
            return;
        };
        let change = |count: u32| {
            let changed = i64::from(count).saturating_add(more).max(0);
            u32::try_from(changed).unwrap_or(u32::MAX)
        };
        if more < 0 && i64::from(found.waiting) < -more {
            self.broken
                .get_or_insert(Problem::GivenBackTwice("waiting jobs"));
        }
        found.waiting = change(found.waiting);
        let requirement = found.requirement;
        let seated = !found.seats.is_empty();
        if let Some(demand) = found.demand.and_then(|at| self.demands.get_mut(at)) {
            demand.waiting = change(demand.waiting);
            if seated {
                demand.seated = change(demand.seated);
            }
            self.demanded = self.demanded.saturating_add_signed(more);
        }
        self.count_use(requirement, more);
    }

    /// Adds to the number of running jobs of a kind.
    pub fn count_executing(&mut self, kind: usize, more: i64) {
        match self.kinds.get(kind) {
            Some(found) => self.count_use(found.requirement, more),
            None => {
                self.broken.get_or_insert(Problem::NoKindAt(kind));
            }
        }
    }

    /// A strand of a kind is not there any more.
    pub fn leave_kind(&mut self, kind: usize, strand: usize) {
        match self.kinds.get_mut(kind) {
            Some(found) => {
                found.strands.remove(&strand);
                self.unused_kinds += usize::from(found.strands.is_empty());
            }
            None => {
                self.broken.get_or_insert(Problem::NoKindAt(kind));
            }
        }
    }

    /// Whether most of the kinds are of no strand any more, so that it is time to recomputes them.
    pub fn is_mostly_unused(&self) -> bool {
        self.unused_kinds > MOST_UNUSED_KINDS.max(self.kinds.len() / 2)
    }

    /// What was found that cannot be so.
    pub fn broken(&self) -> Option<Problem> {
        self.broken
    }

    /// Groups the kinds by the future machines that could run them, where that may be otherwise than before.
    pub fn group_demands(&mut self) {
        if !std::mem::take(&mut self.is_ungrouped) {
            return;
        }
        self.demands.clear();
        self.demanded = 0;
        let mut by_futures: FxHashMap<Vec<usize>, usize> = FxHashMap::default();
        for kind in &mut self.kinds {
            let classes = kind.classes.iter().copied();
            let mut futures: Vec<usize> = classes
                .filter(|at| self.classes.get(*at).is_some_and(|class| class.future))
                .collect();
            futures.sort_unstable();
            kind.demand = (!futures.is_empty()).then(|| {
                let demands = &mut self.demands;
                *by_futures.entry(futures).or_insert_with_key(|futures| {
                    demands.push(Demand {
                        futures: futures.clone(),
                        waiting: 0,
                        seated: 0,
                    });
                    demands.len() - 1
                })
            });
            if let Some(demand) = kind.demand.and_then(|at| self.demands.get_mut(at)) {
                demand.waiting += kind.waiting;
                if !kind.seats.is_empty() {
                    demand.seated += kind.waiting;
                }
                self.demanded += u64::from(kind.waiting);
            }
        }
    }

    pub fn demands(&self) -> &[Demand] {
        &self.demands
    }

    /// Jobs that wait and that some future machine could run.
    pub fn demanded(&self) -> u64 {
        self.demanded
    }

    /// Whether a future machine could run a kind.
    pub fn uses_future(&self, kind: usize) -> bool {
        self.kind(kind).is_some_and(|kind| kind.demand.is_some())
    }
}
