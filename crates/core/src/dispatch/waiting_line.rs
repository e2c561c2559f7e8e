//! The waiting jobs strand by strand, in the parts that have one reason: what is shown of the queue, kept up to date one changed
//! strand at a time.

use super::event::{LineChange, LineGroup, LinePart};
use super::reason::Reason;
use super::state::{GroupKey, PartsOfGroup, State};
use crate::id::PoolId;
use crate::time::Moment;
use std::collections::BTreeSet;

/// Pools or seats that a cause names; the rest are counted.
const NAMED: usize = 3;

impl State {
    /// Whether any strand's line is another than was last taken.
    pub fn has_changed_lines(&self) -> bool {
        !self.changed_lines.is_empty()
    }

    /// Takes the strands whose lines are others than when they were last taken; `most` at once.
    pub fn take_changed_lines(&mut self, most: usize) -> Vec<LineChange> {
        let mut changes = Vec::new();
        while changes.len() < most
            && let Some(at) = self.changed_lines.pop_first()
        {
            let parts = self.line_parts(at);
            if let Some(strand) = self.strands.get_mut(at)
                && strand.taken != parts
            {
                let before = std::mem::replace(&mut strand.taken, parts.clone());
                changes.push(LineChange {
                    strand: strand.id,
                    project: strand.key.project,
                    requirement: strand.key.requirement.clone(),
                    parts: parts.clone(),
                });
                self.regroup(at, &before, &parts);
            }
        }
        changes
    }

    /// Returns the groups of the lines as they were last taken, and takes what has changed in them.
    pub fn take_all_groups(&mut self) -> Vec<LineGroup> {
        self.changed_groups.clear();
        let groups = self.line_groups.iter();
        groups
            .map(|(key, parts)| group_of(key, Some(parts)))
            .collect()
    }

    /// Takes the groups that are others than when they were last taken; one without jobs is gone.
    pub fn take_changed_groups(&mut self) -> Vec<LineGroup> {
        let changed = std::mem::take(&mut self.changed_groups);
        let changed = changed.iter();
        changed
            .map(|key| group_of(key, self.line_groups.get(key)))
            .collect()
    }

    fn regroup(&mut self, at: usize, before: &[LinePart], now: &[LinePart]) {
        let Some(project) = self.strands.get(at).map(|strand| strand.key.project) else {
            return;
        };
        for part in before {
            let key = (project, part.reason, part.cause.clone());
            if let Some(group) = self.line_groups.get_mut(&key) {
                group.jobs = group.jobs.saturating_sub(u64::from(part.jobs));
                group.oldest.remove(&(part.oldest, at, part.from));
                if group.oldest.is_empty() {
                    self.line_groups.remove(&key);
                }
            }
            self.changed_groups.insert(key);
        }
        for part in now {
            let key = (project, part.reason, part.cause.clone());
            let group = self.line_groups.entry(key.clone()).or_default();
            group.jobs += u64::from(part.jobs);
            group.oldest.insert((part.oldest, at, part.from));
            self.changed_groups.insert(key);
        }
    }

    fn line_parts(&self, at: usize) -> Vec<LinePart> {
        let Some(strand) = self.strands.get(at) else {
            return Vec::new();
        };
        let all = u32::try_from(strand.queue.len()).unwrap_or(u32::MAX);
        let mut parts = Vec::new();
        let mut from = 0;
        let segments = strand.segments.iter().map(|one| (one.reason, one.jobs));
        // What is not explained yet is about to start, as far as anybody knows.
        let rest = [(Reason::Handover, None)];
        let segments: Vec<_> = match strand.segments.is_empty() {
            true => rest.to_vec(),
            false => segments.collect(),
        };
        for (reason, jobs) in segments {
            let jobs = jobs.unwrap_or(u32::MAX).min(all.saturating_sub(from));
            if jobs == 0 {
                break;
            }
            if let Some((first, oldest)) = self.head_of(at, from, jobs) {
                parts.push(LinePart {
                    reason,
                    cause: self.cause(at, reason),
                    jobs,
                    oldest,
                    first,
                    from,
                });
            }
            from += jobs;
        }
        parts
    }

    /// The first job's number, and since when the one that waits longest has waited, of a part of a strand's line.
    fn head_of(&self, at: usize, from: u32, jobs: u32) -> Option<(i64, Moment)> {
        let queue = self.strands.get(at)?.queue.iter();
        let mut part = queue.skip(from as usize).take(jobs as usize);
        let ((ready, number), job) = part.next()?;
        let since = |job| self.waiting.get(job).map(|one| one.since);
        let mut oldest = since(job)?;
        let mut first_ready = *ready;
        // Jobs that wait again stand where they stood, but have waited less; a job after one that waits for the first time
        // has not waited longer.
        while oldest > first_ready
            && let Some(((ready, _), job)) = part.next()
        {
            first_ready = *ready;
            oldest = oldest.min(since(job)?);
        }
        Some((*number, oldest))
    }

    fn cause(&self, at: usize, reason: Reason) -> String {
        let Some(strand) = self.strands.get(at) else {
            return String::new();
        };
        let seats = |is_short: &dyn Fn(u32, u32, u32) -> bool| {
            let needs = strand.key.seats.iter();
            let short = needs.filter(|(name, wanted)| {
                is_short(**wanted, self.vacant_seats(name), self.free_seats(name))
            });
            listed(short.map(|(name, _)| name.as_str()))
        };
        match reason {
            Reason::NoMatch | Reason::Handover | Reason::Unknown => String::new(),
            Reason::TeamLimit => {
                let place = self.tree.limited_by(strand.project);
                place.map(|place| self.tree.path(place).to_owned())
            }
            .unwrap_or_default(),
            Reason::SeatTaken => seats(&|wanted, vacant, _| vacant < wanted),
            Reason::SeatReserved => {
                seats(&|wanted, vacant, free| vacant >= wanted && free < wanted)
            }
            Reason::NeedsApproval
            | Reason::OutOfReach
            | Reason::AllBusy
            | Reason::MachineComing
            | Reason::SupplyShort
            | Reason::Offline
            | Reason::Paused => {
                let pools = strand.kind.and_then(|kind| self.kind_pools.get(kind));
                let names = pools.into_iter().flatten();
                let names = names.filter_map(|id| self.field.pools.get(id));
                let names: BTreeSet<&str> = names.map(|pool| pool.name.as_str()).collect();
                listed(names.into_iter())
            }
        }
    }

    /// Notes which pools a kind's jobs could use; where they are others, the lines of its strands are.
    pub(super) fn note_pools(&mut self, at: usize) {
        let Some(kind) = self.field.kind(at) else {
            return;
        };
        // A class whose runners are gone is kept for future ones.
        let satisfying: Vec<_> = (self.field.satisfying(kind))
            .filter(|class| class.future || class.takes + class.paused + class.offline > 0)
            .collect();
        let in_reach = || {
            let classes = satisfying.iter();
            classes.filter(|class| class.kinds.contains(at))
        };
        let all = || satisfying.iter().map(|class| class.pool);
        let unapproved = || all().filter(|pool| self.field.awaits_approval(kind, *pool));
        let mut pools: BTreeSet<PoolId> = in_reach().map(|class| class.pool).collect();
        // The ones that an approval would open come before the ones that are out of reach.
        if pools.is_empty() {
            pools = unapproved().collect();
        }
        if pools.is_empty() {
            pools = all().collect();
        }
        if self.kind_pools.len() <= at {
            self.kind_pools.resize(at + 1, Vec::new());
        }
        let changed = match self.kind_pools.get_mut(at) {
            Some(known) if !known.iter().eq(pools.iter()) => {
                *known = pools.into_iter().collect();
                true
            }
            _ => false,
        };
        if changed && let Some(kind) = self.field.kind(at) {
            self.changed_lines.extend(kind.strands.iter().copied());
        }
    }
}

fn group_of((project, reason, cause): &GroupKey, parts: Option<&PartsOfGroup>) -> LineGroup {
    let oldest = parts.and_then(|parts| parts.oldest.first());
    LineGroup {
        project: *project,
        reason: *reason,
        cause: cause.clone(),
        jobs: parts.map_or(0, |parts| parts.jobs),
        strands: parts.map_or(0, |parts| parts.oldest.len() as u64),
        oldest: oldest.map_or(Moment::from_micros(0), |(since, ..)| *since),
    }
}

/// Some names, and how many more there are.
fn listed<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let names: Vec<&str> = names.collect();
    let some = names.iter().take(NAMED).copied().collect::<Vec<_>>();
    match names.len().saturating_sub(NAMED) {
        0 => some.join(", "),
        more => format!("{} and {more} more", some.join(", ")),
    }
}
