//! The waiting jobs as the tree of teams sees them: whose turn it is.
//!
//! Every strand in which jobs wait stands in its team's line by its first job, in the band to which that job has
//! climbed. Teams compete inside the team above them by what they used recently; a team's own projects compete with its
//! teams as one. Each team knows which kinds of job wait anywhere below it, so that a whole branch is passed over by
//! one look.

use super::inconsistency::Problem;
use super::share::{Usage, UsageScale};
use crate::time::Moment;
use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::time::Duration;

/// A job's place among the jobs of its band: when it became ready, then its number.
pub(super) type LineOrder = (Moment, i64);

pub(super) const BANDS: usize = 3;

/// How often each kind occurs, and which do.
#[derive(Default)]
struct Counts {
    counts: Vec<u32>,
    kinds: FixedBitSet,
}

impl Counts {
    fn add(&mut self, kind: usize) {
        if self.counts.len() <= kind {
            self.counts.resize(kind + 1, 0);
            self.kinds.grow(kind + 1);
        }
        if let Some(count) = self.counts.get_mut(kind) {
            *count += 1;
        }
        self.kinds.insert(kind);
    }

    /// False where none was counted.
    fn remove(&mut self, kind: usize) -> bool {
        let Some(count) = self.counts.get_mut(kind).filter(|count| **count > 0) else {
            return false;
        };
        *count -= 1;
        if *count == 0 {
            self.kinds.set(kind, false);
        }
        true
    }
}

/// A strand's first job in its team's line.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) struct StrandHead {
    pub kind: usize,
    pub turn: LineOrder,
    pub strand: usize,
    pub project: usize,
}

#[derive(Default)]
struct Node {
    parent: Option<usize>,
    weight: f64,
    limit: Option<u32>,
    /// Of everything at or below it.
    usage: Usage,
    /// Of its own projects.
    own_usage: Usage,
    teams: Vec<usize>,
    /// By band and kind.
    heads: [FxHashMap<usize, BTreeSet<StrandHead>>; BANDS],
    own: [Counts; BANDS],
    /// Jobs that wait at or below it.
    waiting: u64,
    below: [Counts; BANDS],
    /// Whether its limit was reached when the reasons were last said.
    reported_full: bool,
}

impl Node {
    /// Whether it stands in another's line: nothing has ever stood in its own.
    fn is_project(&self) -> bool {
        self.below.iter().all(|below| below.counts.is_empty())
    }

    /// Whether its limit lies below what it holds and what waits below it.
    fn limit_binds(&self) -> bool {
        let wanted = u64::from(self.usage.held()).saturating_add(self.waiting);
        self.waiting > 0 && self.limit.is_some_and(|limit| wanted > u64::from(limit))
    }

    fn full(&self) -> bool {
        self.limit.is_some_and(|limit| self.usage.held() >= limit)
    }
}

/// Who competes inside a team.
#[derive(Clone, Copy, PartialEq)]
enum Competitor {
    /// Its own projects.
    Own,
    Team(usize),
}

/// The teams and projects.
pub(super) struct Tree {
    nodes: Vec<Node>,
    by_path: FxHashMap<String, usize>,
    /// Places that have a limit.
    limited: BTreeSet<usize>,
    /// Whether something was taken out that had not been put in.
    is_broken: bool,
}

pub(super) const ROOT: usize = 0;

impl Default for Tree {
    fn default() -> Self {
        let root = Node {
            weight: 1.0,
            ..Node::default()
        };
        Tree {
            nodes: vec![root],
            by_path: FxHashMap::from_iter([(String::new(), ROOT)]),
            limited: BTreeSet::new(),
            is_broken: false,
        }
    }
}

impl Tree {
    /// The place of this path; made with its ancestors, with no limit and a weight of 1, when it is new.
    pub fn place(&mut self, path: &str) -> usize {
        if let Some(known) = self.by_path.get(path) {
            return *known;
        }
        let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        let parent = self.place(parent);
        let fresh = self.nodes.len();
        self.nodes.push(Node {
            parent: Some(parent),
            weight: 1.0,
            ..Node::default()
        });
        self.by_path.insert(path.to_owned(), fresh);
        // What has a place below it is a team, and competes in the one above it.
        if let Some(above) = self.node(parent).and_then(|node| node.parent)
            && let Some(above) = self.nodes.get_mut(above)
            && !above.teams.contains(&parent)
        {
            above.teams.push(parent);
        }
        fresh
    }

    /// What was found that cannot be so.
    pub fn broken(&self) -> Option<Problem> {
        let waiting = Problem::GivenBackTwice("places in line");
        self.is_broken.then_some(waiting)
    }

    pub fn known(&self, path: &str) -> Option<usize> {
        self.by_path.get(path).copied()
    }

    pub fn set(&mut self, place: usize, weight: u32, limit: Option<u32>) {
        if let Some(node) = self.nodes.get_mut(place) {
            node.weight = f64::from(weight.max(1));
            node.limit = limit;
        }
        if limit.is_some() {
            self.limited.insert(place);
        } else {
            self.limited.remove(&place);
        }
    }

    /// Adds to the number of waiting jobs of a project.
    pub fn count_waiting(&mut self, project: usize, more: i64) {
        let mut at = Some(project);
        while let Some(node) = at.and_then(|at| self.nodes.get_mut(at)) {
            match node.waiting.checked_add_signed(more) {
                Some(waiting) => node.waiting = waiting,
                None => self.is_broken = true,
            }
            at = node.parent;
        }
    }

    /// Whether any limit keeps jobs that wait from starting all at once.
    pub fn limits_bind(&self) -> bool {
        let mut limited = self.limited.iter().filter_map(|at| self.node(*at));
        limited.any(Node::limit_binds)
    }

    fn node(&self, place: usize) -> Option<&Node> {
        self.nodes.get(place)
    }

    /// The place and everything above it, from below.
    pub fn chain(&self, place: usize) -> impl Iterator<Item = usize> {
        std::iter::successors(Some(place), |place| self.node(*place)?.parent)
    }

    fn team_of(&self, project: usize) -> usize {
        self.node(project)
            .and_then(|node| node.parent)
            .unwrap_or(ROOT)
    }

    /// Puts a strand's first job into its team's line.
    pub fn stand(&mut self, band: usize, head: StrandHead) {
        let team = self.team_of(head.project);
        if let Some(node) = self.nodes.get_mut(team)
            && let (Some(heads), Some(own)) = (node.heads.get_mut(band), node.own.get_mut(band))
        {
            heads.entry(head.kind).or_default().insert(head);
            own.add(head.kind);
        }
        self.for_band_above(team, band, |below| below.add(head.kind));
    }

    /// Takes it out again.
    pub fn leave(&mut self, band: usize, head: StrandHead) {
        let team = self.team_of(head.project);
        if let Some(node) = self.nodes.get_mut(team)
            && let (Some(heads), Some(own)) = (node.heads.get_mut(band), node.own.get_mut(band))
        {
            let mut was_there = false;
            if let Some(of_kind) = heads.get_mut(&head.kind) {
                was_there = of_kind.remove(&head);
                if of_kind.is_empty() {
                    heads.remove(&head.kind);
                }
            }
            self.is_broken |= !(own.remove(head.kind) && was_there);
        }
        let mut is_counted = true;
        self.for_band_above(team, band, |below| is_counted &= below.remove(head.kind));
        self.is_broken |= !is_counted;
    }

    fn for_band_above(&mut self, team: usize, band: usize, mut change: impl FnMut(&mut Counts)) {
        let mut at = Some(team);
        while let Some(node) = at.and_then(|at| self.nodes.get_mut(at)) {
            if let Some(below) = node.below.get_mut(band) {
                change(below);
            }
            at = node.parent;
        }
    }

    /// A slot is taken for a project.
    pub fn take(&mut self, project: usize, scale: &UsageScale, growth: f64) {
        self.change_usage(project, |usage| usage.take(scale, growth));
    }

    /// Releases a project's slot. Returns the places that are below their limit again.
    pub fn give_back(&mut self, project: usize, scale: &UsageScale, growth: f64) -> Vec<usize> {
        let were_full: Vec<usize> = self.chain(project).filter(|at| self.full(*at)).collect();
        self.change_usage(project, |usage| usage.give_back(scale, growth));
        were_full.into_iter().filter(|at| !self.full(*at)).collect()
    }

    /// Slot-time that a project used before.
    pub fn add(&mut self, project: usize, slot_time: Duration, growth: f64) {
        self.change_usage(project, |usage| usage.add(slot_time, growth));
    }

    fn change_usage(&mut self, project: usize, change: impl Fn(&mut Usage)) {
        let team = self.team_of(project);
        let mut at = Some(project);
        while let Some((place, node)) =
            at.and_then(|at| self.nodes.get_mut(at).map(|node| (at, node)))
        {
            change(&mut node.usage);
            if place == team {
                change(&mut node.own_usage);
            }
            at = node.parent;
        }
    }

    /// The use of all places, to be restored.
    pub fn usages(&self) -> Vec<(Usage, Usage)> {
        self.nodes
            .iter()
            .map(|node| (node.usage, node.own_usage))
            .collect()
    }

    pub fn restore_usages(&mut self, before: Vec<(Usage, Usage)>) {
        for (node, (usage, own)) in self.nodes.iter_mut().zip(before) {
            node.usage = usage;
            node.own_usage = own;
        }
    }

    pub fn shift(&mut self, by: f64) {
        for node in &mut self.nodes {
            node.usage.shift(by);
            node.own_usage.shift(by);
        }
    }

    pub fn full(&self, place: usize) -> bool {
        self.node(place).is_some_and(Node::full)
    }

    /// Slots held at or below the place, and its limit.
    pub fn load(&self, place: usize) -> (u32, Option<u32>) {
        self.node(place)
            .map_or((0, None), |node| (node.usage.held(), node.limit))
    }

    /// What a place used recently.
    pub fn recent(&self, place: usize, scale: &UsageScale, growth: f64) -> Duration {
        self.node(place)
            .map_or(Duration::ZERO, |node| node.usage.recent(scale, growth))
    }

    /// The lowest place at or above this one that is at its limit.
    pub fn limited_by(&self, project: usize) -> Option<usize> {
        self.chain(project).find(|at| self.full(*at))
    }

    pub fn path(&self, place: usize) -> &str {
        self.by_path
            .iter()
            .find(|(_, known)| **known == place)
            .map_or("", |(path, _)| path)
    }

    /// Kinds of which jobs wait at or below a place; those of a project's whole team, for a project.
    pub fn waiting_kinds(&self, place: usize) -> impl Iterator<Item = &FixedBitSet> {
        let line = match self.node(place) {
            Some(node) if node.is_project() => self.team_of(place),
            _ => place,
        };
        self.node(line)
            .into_iter()
            .flat_map(|node| node.below.iter().map(|below| &below.kinds))
    }

    /// Whether any of these kinds waits in the band.
    pub fn any(&self, band: usize, open: &FixedBitSet) -> bool {
        self.node(ROOT)
            .and_then(|root| root.below.get(band))
            .is_some_and(|below| !below.kinds.is_disjoint(open))
    }

    /// Whose turn it is among the waiting jobs of a band whose kind is open, limits minded.
    pub fn next(
        &self,
        team: usize,
        band: usize,
        open: &FixedBitSet,
        scale: &UsageScale,
        growth: f64,
    ) -> Option<StrandHead> {
        let node = self.node(team)?;
        if node.full() {
            return None;
        }
        // Most often one look is enough. Who turned out to have only work that is at a limit is tried once.
        let mut tried: Vec<Competitor> = Vec::new();
        loop {
            // With the turn of its oldest job, once that had to be looked for.
            let mut best: Option<(i64, Competitor, Option<Option<LineOrder>>)> = None;
            let teams = node.teams.iter().map(|at| Competitor::Team(*at));
            for competitor in std::iter::once(Competitor::Own).chain(teams) {
                let Some(score) = self.score(node, competitor, band, open, scale, growth) else {
                    continue;
                };
                if tried.contains(&competitor) {
                    continue;
                }
                let order = best
                    .as_ref()
                    .map_or(Ordering::Less, |(least, ..)| score.cmp(least));
                match (order, &mut best) {
                    (Ordering::Equal, Some((_, other, known))) => {
                        let turn = |who| self.oldest(team, who, band, open);
                        let theirs = *known.get_or_insert_with(|| turn(*other));
                        let mine = turn(competitor);
                        let before = match (mine, theirs) {
                            (Some(mine), Some(theirs)) => mine < theirs,
                            (mine, None) => mine.is_some(),
                            (None, Some(_)) => false,
                        };
                        if before {
                            best = Some((score, competitor, Some(mine)));
                        }
                    }
                    (Ordering::Less, _) => best = Some((score, competitor, None)),
                    _ => {}
                }
            }
            let (_, competitor, _) = best?;
            let found = match competitor {
                Competitor::Own => self.first_of_own(node, band, open),
                Competitor::Team(at) => self.next(at, band, open, scale, growth),
            };
            if found.is_some() {
                return found;
            }
            tried.push(competitor);
        }
    }

    /// A competitor's score; none when nothing of it waits that is open.
    fn score(
        &self,
        node: &Node,
        competitor: Competitor,
        band: usize,
        open: &FixedBitSet,
        scale: &UsageScale,
        growth: f64,
    ) -> Option<i64> {
        let (counts, usage, weight) = match competitor {
            Competitor::Own => (node.own.get(band)?, &node.own_usage, 1.0),
            Competitor::Team(at) => {
                let team = self.node(at)?;
                (team.below.get(band)?, &team.usage, team.weight)
            }
        };
        (!counts.kinds.is_disjoint(open)).then(|| usage.score(scale, growth, weight))
    }

    /// The turn of a competitor's oldest job that could be taken.
    fn oldest(
        &self,
        team: usize,
        competitor: Competitor,
        band: usize,
        open: &FixedBitSet,
    ) -> Option<LineOrder> {
        match competitor {
            Competitor::Own => self
                .first_of_own(self.node(team)?, band, open)
                .map(|head| head.turn),
            Competitor::Team(at) => {
                let node = self.node(at)?;
                if node.full() || node.below.get(band)?.kinds.is_disjoint(open) {
                    return None;
                }
                let teams = node.teams.iter().map(|at| Competitor::Team(*at));
                std::iter::once(Competitor::Own)
                    .chain(teams)
                    .filter_map(|who| self.oldest(at, who, band, open))
                    .min()
            }
        }
    }

    fn first_of_own(&self, node: &Node, band: usize, open: &FixedBitSet) -> Option<StrandHead> {
        let heads = node.heads.get(band)?;
        let kinds = node.own.get(band)?.kinds.intersection(open);
        kinds
            .filter_map(|kind| {
                let mut of_kind = heads.get(&kind)?.iter();
                of_kind.find(|head| !self.full(head.project))
            })
            .min_by_key(|head| head.turn)
            .copied()
    }

    /// Those of these places whose limit was reached or left since this was last asked.
    pub fn changed_limits(&mut self, candidates: &[usize]) -> Vec<usize> {
        let mut found = Vec::new();
        for at in candidates {
            if let Some(node) = self.nodes.get_mut(*at) {
                let full = node.full();
                if node.reported_full != full {
                    node.reported_full = full;
                    found.push(*at);
                }
            }
        }
        found
    }
}
