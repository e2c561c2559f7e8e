//! The matching of kinds of jobs to classes of slots, as a flow: a few numbers, however many jobs and slots there are.
//!
//! A job more is matched where there is a spare slot, or by moving others of the same batch about along an augmenting path.

use super::runner_index::RunnerIndex;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};

/// Which slots a batch is made for.
pub(super) enum Slots {
    /// Free slots.
    Free,
    /// Slots of machines that are coming or could be ordered: a number per class.
    Future(FxHashMap<usize, u32>),
}

/// How many jobs of which kind are matched to slots of which class.
pub(super) struct Flow {
    slots: Slots,
    placed: FxHashMap<usize, u32>,
    /// Classes whose last slot was taken in this batch.
    filled: Vec<usize>,
    units: BTreeMap<(usize, usize), u32>,
}

impl Flow {
    pub(super) fn new(slots: Slots) -> Self {
        Flow {
            slots,
            placed: FxHashMap::default(),
            filled: Vec::new(),
            units: BTreeMap::new(),
        }
    }

    /// Whether a class has a slot that is unused in this batch.
    pub(super) fn spare(&self, field: &RunnerIndex, class: usize) -> bool {
        let all = match &self.slots {
            Slots::Free => field.class(class).map_or(0, |class| class.free_slots),
            Slots::Future(slots) => slots.get(&class).copied().unwrap_or(0),
        };
        all > self.placed.get(&class).copied().unwrap_or(0)
    }

    /// Whether any class of a kind has such a slot.
    fn any_spare(&self, field: &RunnerIndex, at: usize) -> bool {
        let Some(kind) = field.kind(at) else {
            return false;
        };
        if matches!(self.slots, Slots::Future(_)) {
            return kind.classes.iter().any(|class| self.spare(field, *class));
        }
        let filled = self
            .filled
            .iter()
            .filter(|class| {
                field
                    .class(**class)
                    .is_some_and(|class| class.kinds.contains(at))
            })
            .count();
        kind.has_room as usize > filled
    }

    pub(super) fn add(&mut self, field: &RunnerIndex, class: usize, kind: usize) {
        *self.placed.entry(class).or_default() += 1;
        *self.units.entry((class, kind)).or_default() += 1;
        if !self.spare(field, class) {
            self.filled.push(class);
        }
    }

    pub(super) fn remove(&mut self, class: usize, kind: usize) {
        self.filled.retain(|other| *other != class);
        if let Some(placed) = self.placed.get_mut(&class) {
            *placed = placed.saturating_sub(1);
        }
        if let Some(units) = self.units.get_mut(&(class, kind)) {
            *units = units.saturating_sub(1);
            if *units == 0 {
                self.units.remove(&(class, kind));
            }
        }
    }

    /// One slot fewer of a class that is yet to come.
    pub(super) fn use_up(&mut self, class: usize) {
        if let Slots::Future(slots) = &mut self.slots
            && let Some(left) = slots.get_mut(&class)
        {
            *left = left.saturating_sub(1);
        }
    }

    pub(super) fn has(&self, class: usize, kind: usize) -> bool {
        self.units.contains_key(&(class, kind))
    }

    /// The kinds that have a slot of a class.
    fn kinds_in(&self, class: usize) -> impl Iterator<Item = usize> {
        self.units
            .range((class, 0)..=(class, usize::MAX))
            .map(|((_, kind), _)| *kind)
    }

    /// A class in which a kind has a slot.
    pub(super) fn class_of(&self, field: &RunnerIndex, kind: usize) -> Option<usize> {
        let classes = &field.kind(kind)?.classes;
        classes.iter().copied().find(|class| self.has(*class, kind))
    }

    /// Matches one more job of a kind, moving other jobs where necessary. Returns the class that has one slot less
    /// afterwards.
    pub(super) fn place(&mut self, field: &RunnerIndex, kind: usize) -> Option<usize> {
        let found = field.kind(kind)?;
        let mut spare = found.classes.iter().copied();
        if self.any_spare(field, kind)
            && let Some(class) = spare.find(|class| self.spare(field, *class))
        {
            self.add(field, class, kind);
            return Some(class);
        }
        let (class, end) = self.path(field, found.classes.iter().copied())?;
        self.add(field, class, kind);
        Some(end)
    }

    /// Makes room in one of the classes to begin with, by moving one job after another to where there is a spare slot.
    /// Returns the class that has a free slot now, and the class whose spare slot was used. Nothing changes when
    /// there is no path.
    pub(super) fn path(
        &mut self,
        field: &RunnerIndex,
        begin: impl Iterator<Item = usize>,
    ) -> Option<(usize, usize)> {
        // For each class seen: the class from which a job of this kind would move here.
        let mut from: FxHashMap<usize, Option<(usize, usize)>> = FxHashMap::default();
        let mut line: Vec<usize> = Vec::new();
        for class in begin {
            if self.kinds_in(class).next().is_some() {
                from.insert(class, None);
                line.push(class);
            }
        }
        let mut next = 0;
        while let Some(class) = line.get(next).copied() {
            next += 1;
            let kinds: Vec<usize> = self.kinds_in(class).collect();
            for kind in kinds {
                for &to in field.kind(kind).map_or(&[][..], |kind| &kind.classes) {
                    if from.contains_key(&to) {
                        continue;
                    }
                    if self.spare(field, to) {
                        return Some((self.shift(field, &from, to, class, kind), to));
                    }
                    if self.kinds_in(to).next().is_some() {
                        from.insert(to, Some((class, kind)));
                        line.push(to);
                    }
                }
            }
        }
        None
    }

    /// Moves jobs along a path that was found, from its end; the class at its beginning has room then.
    fn shift(
        &mut self,
        field: &RunnerIndex,
        from: &FxHashMap<usize, Option<(usize, usize)>>,
        end: usize,
        last: usize,
        kind: usize,
    ) -> usize {
        let (mut to, mut at, mut kind) = (end, last, kind);
        loop {
            self.remove(at, kind);
            self.add(field, to, kind);
            match from.get(&at) {
                Some(Some((before, moved))) => (to, at, kind) = (at, *before, *moved),
                _ => return at,
            }
        }
    }

    /// Classes in which room could be made by moving jobs of this batch.
    fn has_room(&self, field: &RunnerIndex) -> BTreeSet<usize> {
        let mut has_room = BTreeSet::new();
        loop {
            let before = has_room.len();
            for (class, kind) in self.units.keys() {
                // Its own class is full, or room in it is there without a way.
                let way = self.any_spare(field, *kind)
                    || has_room.iter().any(|to| {
                        to != class
                            && field
                                .class(*to)
                                .is_some_and(|class| class.kinds.contains(*kind))
                    });
                if way {
                    has_room.insert(*class);
                }
            }
            if has_room.len() == before {
                return has_room;
            }
        }
    }

    /// Closes the kinds for which there is no room any more.
    pub(super) fn close(&self, field: &RunnerIndex, open: &mut FixedBitSet) {
        let has_room = self.has_room(field);
        let closed: Vec<usize> = open
            .ones()
            .filter(|kind| {
                let moved = has_room.iter().filter_map(|class| field.class(*class));
                !self.any_spare(field, *kind)
                    && !moved.clone().any(|class| class.kinds.contains(*kind))
            })
            .collect();
        for kind in closed {
            open.set(kind, false);
        }
    }

    /// Takes a kept job of a kind out of the flow for a slot of a class, if the others can still be matched then. Its
    /// slot so far is in the class `own`.
    pub(super) fn take_in(
        &mut self,
        field: &RunnerIndex,
        class: usize,
        own: usize,
        kind: usize,
    ) -> bool {
        if self.has(class, kind) {
            self.remove(class, kind);
            return true;
        }
        self.remove(own, kind);
        if self.spare(field, class) {
            return true;
        }
        if self.path(field, std::iter::once(class)).is_some() {
            return true;
        }
        self.add(field, own, kind);
        false
    }
}
