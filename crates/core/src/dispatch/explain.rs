//! Saying why the jobs of each strand wait: what of it changed since it was last said.

use super::event::ReasonChange;
use super::inconsistency::{Inconsistency, Problem};
use super::reason::{EligibilityCounts, Limit, Reason, SeatReservation, SeatStanding, Segment};
use super::state::{MachineCover, State, present};
use crate::id::StrandId;
use crate::time::Moment;
use std::collections::BTreeMap;

impl State {
    pub(super) fn explain_waiting(&mut self, now: Moment) -> Vec<ReasonChange> {
        let mut changes = Vec::new();
        self.changed_kinds();
        let touched: Vec<usize> = std::mem::take(&mut self.touched).into_iter().collect();
        let turned = self.tree.changed_limits(&touched);
        if !turned.is_empty() {
            let below: Vec<usize> = self
                .strands
                .iter()
                .filter(|(_, strand)| !strand.queue.is_empty())
                .filter(|(_, strand)| {
                    let mut above = self.tree.chain(strand.project);
                    above.any(|place| turned.contains(&place))
                })
                .map(|(at, _)| at)
                .collect();
            self.dirty.extend(below);
        }
        let covered = self.cover(now);
        if covered != self.covered {
            for one in [&covered, &self.covered] {
                if let MachineCover::Some(strands) = one {
                    self.dirty.extend(strands.keys().copied());
                }
            }
            if covered == MachineCover::All || self.covered == MachineCover::All {
                let served = self.strands_of_demands();
                self.dirty.extend(served);
            }
            self.covered = covered;
        }
        for at in std::mem::take(&mut self.dirty) {
            let segments = self.segments(at);
            if let Some(strand) = self.strands.get_mut(at)
                && strand.segments != segments
            {
                strand.segments.clone_from(&segments);
                self.changed_lines.insert(at);
                changes.push(ReasonChange {
                    strand: strand.id,
                    segments,
                });
            }
        }
        changes
    }

    /// Works out the reasons of the kinds about which something changed; the strands of those whose reason is another
    /// now are looked at.
    fn changed_kinds(&mut self) {
        let dirty: Vec<usize> = self.unsure_kinds.ones().collect();
        self.unsure_kinds.clear();
        for kind in dirty {
            if self.field.kind(kind).is_none_or(|kind| kind.waiting == 0) {
                // Worked out when a job of it waits again.
                if let Some(known) = self.kind_reasons.get_mut(kind) {
                    *known = None;
                }
                continue;
            }
            let reason = self.kind_reason(kind);
            self.note_pools(kind);
            if self.kind_reasons.len() <= kind {
                self.kind_reasons.resize(kind + 1, None);
            }
            if let Some(known) = self.kind_reasons.get_mut(kind)
                && *known != Some(reason)
            {
                *known = Some(reason);
                if let Some(kind) = self.field.kind(kind) {
                    self.dirty.extend(kind.strands.iter().copied());
                }
            }
        }
    }

    /// The reason of the jobs of a kind, limits aside.
    fn kind_reason(&self, at: usize) -> Reason {
        let Some(kind) = self.field.kind(at) else {
            return Reason::NoMatch;
        };
        let standing = self.kind_standing(at);
        let seats = kind.seats.iter();
        let seat = if seats
            .clone()
            .any(|(name, count)| self.vacant_seats(name) < *count)
        {
            Some(Reason::SeatTaken)
        } else if seats
            .clone()
            .any(|(name, count)| self.free_seats(name) < *count)
        {
            Some(Reason::SeatReserved)
        } else {
            None
        };
        standing.reason_with(seat)
    }

    fn segments(&mut self, at: usize) -> Vec<Segment> {
        let strand = present!(self, self.strands.get(at), Problem::NoStrandAt(at));
        if strand.queue.is_empty() {
            return Vec::new();
        }
        let project = strand.project;
        let waiting = u32::try_from(strand.queue.len()).unwrap_or(u32::MAX);
        let Some(kind) = strand.kind else {
            return vec![Segment {
                reason: Reason::NoMatch,
                jobs: None,
            }];
        };
        let known = self.kind_reasons.get(kind).copied().flatten();
        if known.is_none() {
            self.note_pools(kind);
        }
        let reason = known.unwrap_or_else(|| self.kind_reason(kind));
        let rest = if reason.yields_to_a_limit() && self.tree.limited_by(project).is_some() {
            Reason::TeamLimit
        } else {
            reason
        };
        let coming = self.covered_of(at).min(waiting);
        let mut segments = Vec::new();
        if coming > 0 {
            segments.push(Segment {
                reason: Reason::MachineComing,
                jobs: (coming < waiting).then_some(coming),
            });
        }
        // The job for which seats are set aside waits for what it lacks itself.
        if coming == 0 && rest == Reason::SeatReserved && self.claims_seats(at) {
            segments.push(Segment {
                reason: self.kind_standing(kind).reason_with(None),
                jobs: (waiting > 1).then_some(1),
            });
            if waiting == 1 {
                return segments;
            }
        }
        if coming < waiting {
            segments.push(Segment {
                reason: rest,
                jobs: None,
            });
        }
        if self.kind_reasons.len() <= kind {
            self.kind_reasons.resize(kind + 1, None);
        }
        if let Some(known) = self.kind_reasons.get_mut(kind) {
            *known = Some(reason);
        }
        segments
    }

    /// Whether all the seats that a strand's first job needs are there or set aside for it.
    fn claims_seats(&self, at: usize) -> bool {
        let Some(strand) = self.strands.get(at) else {
            return false;
        };
        let first = strand.queue.first_key_value().map(|(_, job)| *job);
        strand.key.seats.iter().all(|(name, count)| {
            let before = self.claimed_before(name, first);
            let claims = self.claims.get(name).into_iter().flatten();
            claims.clone().any(|claim| Some(claim.job) == first)
                && self.vacant_seats(name).saturating_sub(before) >= *count
        })
    }

    fn kind_standing(&self, at: usize) -> EligibilityCounts {
        let mut standing = EligibilityCounts::default();
        let Some(kind) = self.field.kind(at) else {
            return standing;
        };
        for class in self.field.satisfying(kind) {
            let runners = class.takes + class.paused + class.offline;
            standing.satisfying += runners;
            let in_reach = class.kinds.contains(at);
            if class.future {
                standing.makers += 1;
            }
            if !in_reach {
                if runners > 0 || class.future {
                    let pool = self.field.pools.get(&class.pool);
                    let awaiting = pool.filter(|pool| self.field.awaits_approval(kind, pool.id));
                    let name = awaiting.map(|pool| pool.name.clone());
                    standing.awaiting_approval.extend(name);
                }
                continue;
            }
            standing.in_reach += runners;
            standing.taking += class.takes;
            standing.paused += class.paused;
            standing.offline += class.offline;
            if class.future
                && let Some(pool) = self.field.pools.get(&class.pool)
            {
                standing.count_maker(pool);
            }
        }
        standing
    }

    /// How a strand's first job stands in the yard, with the numbers behind its reason.
    pub fn standing(&self, strand: StrandId) -> Option<EligibilityCounts> {
        let (_, strand) = self.strand_at(strand)?;
        let mut standing = self.kind_standing(strand.kind?);
        standing.trust = strand.key.trust;
        standing.limit = self.tree.limited_by(strand.project).map(|place| {
            let (held, limit) = self.tree.load(place);
            Limit {
                place: self.tree.path(place).to_owned(),
                held,
                limit: limit.unwrap_or(u32::MAX),
            }
        });
        let first = strand.queue.first_key_value().map(|(_, job)| *job);
        standing.seats = strand
            .key
            .seats
            .iter()
            .map(|(name, wanted)| {
                let (count, taken) = self.seats_of(name).unwrap_or((0, 0));
                SeatStanding {
                    name: name.clone(),
                    wanted: *wanted,
                    count,
                    taken,
                    set_aside: self.claimed_before(name, first),
                    set_aside_for: self
                        .claims
                        .get(name)
                        .and_then(|claims| claims.first().filter(|claim| Some(claim.job) != first))
                        .map(SeatReservation::name),
                }
            })
            .collect();
        Some(standing)
    }

    /// What was last said of a strand.
    pub fn reasons_of(&self, strand: StrandId) -> &[Segment] {
        self.strand_at(strand)
            .map_or(&[], |(_, strand)| &strand.segments)
    }

    /// How many jobs wait in each strand in which any does.
    pub fn waiting_by_strand(&self) -> BTreeMap<StrandId, usize> {
        self.strands
            .iter()
            .filter(|(_, strand)| !strand.queue.is_empty())
            .map(|(_, strand)| (strand.id, strand.queue.len()))
            .collect()
    }
}
