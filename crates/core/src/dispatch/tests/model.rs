//! The queue and the yard kept in the plainest way, and the walk over them that a reader can check by eye. The state is
//! judged by it.

use super::super::*;
use crate::dispatch::yard::NO_POOLS;
use crate::id::{AttemptId, JobId, PoolId, RunnerId};
use crate::requirement::Requirement;
use crate::time::Moment;
use crate::trust::Trust;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// A strand, as the script numbers it.
#[derive(Clone, Debug)]
pub struct Alike {
    pub requirement: &'static str,
    pub project: &'static str,
    pub trust: Trust,
    pub band: Band,
    pub seats: SeatNeeds,
}

#[derive(Clone, Debug)]
pub struct Job {
    pub strand: usize,
    pub ready: Moment,
    /// Later than `ready` for a job that waits again.
    pub since: Moment,
    pub number: i64,
}

#[derive(Clone, Debug)]
pub struct Running {
    pub runner: RunnerId,
    pub strand: usize,
    pub since: Moment,
    pub seated: bool,
}

#[derive(Default)]
pub struct Model {
    pub policy: SharePolicy,
    pub alike: Vec<Alike>,
    pub runners: BTreeMap<RunnerId, RunnerView>,
    pub pools: BTreeMap<PoolId, PoolView>,
    pub places: BTreeMap<String, (u32, Option<u32>)>,
    pub seats: BTreeMap<String, u32>,
    pub waiting: BTreeMap<JobId, Job>,
    pub running: BTreeMap<AttemptId, Running>,
    /// What was used: by which project, from, to.
    pub used: Vec<(&'static str, Moment, Moment)>,
    pub reasons: BTreeMap<usize, Vec<Segment>>,
}

/// Why a job cannot start.
#[derive(Clone, Debug, PartialEq)]
pub enum Bar {
    Slot,
    Limit,
    SeatTaken,
    SeatReserved,
}

/// The jobs taken so far, while a batch is made.
struct Taken<'a> {
    model: &'a Model,
    now: Moment,
    kept: Vec<JobId>,
    /// Seats set aside, and for whom, the oldest first.
    claims: Vec<(JobId, String, u32)>,
    starts_claimants: bool,
}

pub fn above(path: &str) -> Vec<String> {
    let mut found = vec![path.to_owned()];
    let mut rest = path;
    while let Some((parent, _)) = rest.rsplit_once('/') {
        found.push(parent.to_owned());
        rest = parent;
    }
    if !path.is_empty() {
        found.push(String::new());
    }
    found
}

impl Model {
    pub fn may_take(&self, strand: usize, runner: &RunnerView) -> bool {
        let alike = &self.alike[strand];
        let requirement: Requirement = alike.requirement.parse().unwrap();
        self.pools.get(&runner.pool).is_some_and(|pool| {
            pool.admits(&requirement, &runner.subject)
                && pool.reaches(Origin {
                    project: alike.project,
                    trust: alike.trust,
                    approved_in: &NO_POOLS,
                })
        })
    }

    /// Whether the runner could take the strand's jobs if their project were approved, and cannot now.
    pub fn awaits_approval(&self, strand: usize, runner: &RunnerView) -> bool {
        let mut without = Model {
            alike: self.alike.clone(),
            pools: self.pools.clone(),
            ..Model::default()
        };
        let pools = without.pools.values_mut();
        pools.for_each(|pool| pool.reach.asks_approval = false);
        without.may_take(strand, runner) && !self.may_take(strand, runner)
    }

    pub fn takes(&self, runner: &RunnerView) -> bool {
        runner.willingness() == Availability::Takes
            && self
                .pools
                .get(&runner.pool)
                .is_some_and(|pool| !pool.paused)
    }

    pub fn free_slots(&self, runner: &RunnerView) -> u32 {
        let held = self
            .running
            .values()
            .filter(|holder| holder.runner == runner.id)
            .count();
        match self.takes(runner) {
            true => runner.slots.saturating_sub(held as u32),
            false => 0,
        }
    }

    pub fn seats_taken(&self, name: &str) -> u32 {
        let seated = self.running.values().filter(|holder| holder.seated);
        seated
            .filter_map(|holder| self.alike[holder.strand].seats.get(name))
            .sum()
    }

    fn taken(&self, now: Moment) -> Taken<'_> {
        Taken {
            model: self,
            now,
            kept: Vec::new(),
            claims: Vec::new(),
            starts_claimants: true,
        }
    }

    /// The jobs that start now, by the plain walk.
    pub fn oracle(&self, now: Moment) -> Vec<JobId> {
        let mut taken = self.taken(now);
        taken.claimants_first();
        taken.walk();
        taken.kept
    }

    /// Why a job that waits after a batch could not have been in it.
    pub fn bar(&self, job: JobId, now: Moment) -> Option<Bar> {
        let mut taken = self.taken(now);
        taken.starts_claimants = false;
        taken.claimants_first();
        taken.bar(job)
    }

    fn share(&self, place: &str, own: bool, now: Moment, extra: &[&'static str]) -> i64 {
        let half_life = self.policy.half_life.as_secs_f64();
        let k = half_life / std::f64::consts::LN_2;
        let decayed = |at: Moment| (-now.since(at).as_secs_f64() / half_life).exp2();
        let belongs = |project: &str| match own {
            true => project.rsplit_once('/').map_or("", |(team, _)| team) == place,
            false => above(project).iter().any(|path| path == place),
        };
        let mut used: f64 = 0.0;
        for (project, from, to) in &self.used {
            if belongs(project) {
                used += k * (decayed(*to) - decayed(*from));
            }
        }
        let mut held = extra.iter().filter(|project| belongs(project)).count();
        for running in self.running.values() {
            if belongs(self.alike[running.strand].project) {
                used += k * (1.0 - decayed(running.since));
                held += 1;
            }
        }
        let weight = match own {
            true => 1,
            false => self.places.get(place).map_or(1, |place| place.0),
        };
        let counts = used + held as f64 * self.policy.advance.as_secs_f64();
        (counts / f64::from(weight) * 1e3).round() as i64
    }
}

impl Taken<'_> {
    fn job(&self, id: JobId) -> &Job {
        &self.model.waiting[&id]
    }

    fn alike(&self, id: JobId) -> &Alike {
        &self.model.alike[self.job(id).strand]
    }

    fn waiting(&self) -> Vec<JobId> {
        let waiting = self.model.waiting.keys().copied();
        waiting.filter(|job| !self.kept.contains(job)).collect()
    }

    fn turn(&self, id: JobId) -> (Moment, i64) {
        (self.job(id).ready, self.job(id).number)
    }

    fn band(&self, id: JobId) -> Band {
        let waited = self.now.since(self.job(id).ready);
        self.alike(id)
            .band
            .climbed(waited, self.model.policy.climb_after)
    }

    fn extra(&self) -> Vec<&'static str> {
        self.kept
            .iter()
            .map(|job| self.alike(*job).project)
            .collect()
    }

    fn at_limit(&self, project: &str) -> bool {
        above(project).iter().any(|path| {
            let limit = self.model.places.get(path).and_then(|place| place.1);
            let below = |other: &str| above(other).contains(path);
            let running = self.model.running.values();
            let held = running
                .filter(|running| below(self.model.alike[running.strand].project))
                .count()
                + self.extra().iter().filter(|project| below(project)).count();
            limit.is_some_and(|limit| held >= limit as usize)
        })
    }

    /// Free seats.
    fn vacant(&self, name: &str) -> u32 {
        let kept = self
            .kept
            .iter()
            .filter_map(|job| self.alike(*job).seats.get(name));
        let all = self.model.seats.get(name).copied().unwrap_or(0);
        all.saturating_sub(self.model.seats_taken(name) + kept.sum::<u32>())
    }

    /// Seats reserved by earlier jobs.
    fn claimed(&self, name: &str, job: JobId) -> u32 {
        let claims = self.claims.iter().take_while(|(other, ..)| *other != job);
        claims
            .filter(|(_, other, _)| other == name)
            .map(|(.., count)| count)
            .sum()
    }

    /// Whether the jobs kept so far, with this one, can have a slot each: plain augmenting, job by job and slot by slot.
    fn matchable(&self, with: JobId) -> bool {
        let mut slots: Vec<&RunnerView> = Vec::new();
        for runner in self.model.runners.values() {
            slots.extend((0..self.model.free_slots(runner)).map(|_| runner));
        }
        let mut holder: Vec<Option<JobId>> = vec![None; slots.len()];
        let jobs = self.kept.iter().copied().chain([with]);
        jobs.into_iter().all(|job| {
            let mut seen = BTreeSet::new();
            self.augment(job, &slots, &mut holder, &mut seen)
        })
    }

    fn augment(
        &self,
        job: JobId,
        slots: &[&RunnerView],
        holder: &mut Vec<Option<JobId>>,
        seen: &mut BTreeSet<usize>,
    ) -> bool {
        for (slot, runner) in slots.iter().enumerate() {
            if !self.model.may_take(self.job(job).strand, runner) || !seen.insert(slot) {
                continue;
            }
            let free = match holder[slot] {
                None => true,
                Some(other) => self.augment(other, slots, holder, seen),
            };
            if free {
                holder[slot] = Some(job);
                return true;
            }
        }
        false
    }

    fn bar(&self, job: JobId) -> Option<Bar> {
        let alike = self.alike(job);
        if self.at_limit(alike.project) {
            return Some(Bar::Limit);
        }
        let short = |needs: &dyn Fn(&str) -> u32| {
            alike.seats.iter().any(|(name, count)| needs(name) < *count)
        };
        if short(&|name| self.vacant(name)) {
            return Some(Bar::SeatTaken);
        }
        if short(&|name| self.vacant(name).saturating_sub(self.claimed(name, job))) {
            return Some(Bar::SeatReserved);
        }
        (!self.matchable(job)).then_some(Bar::Slot)
    }

    /// Jobs that need several seats and have climbed to the top, the oldest of each strand: they start first, or set
    /// seats aside.
    fn claimants_first(&mut self) {
        let mut settled: BTreeSet<usize> = BTreeSet::new();
        loop {
            // The first of each strand, the oldest of them first; one that starts is followed by the next of its strand.
            let open = self.waiting();
            let open = open.into_iter().filter(|job| {
                !settled.contains(&self.job(*job).strand)
                    && self.alike(*job).seats.values().sum::<u32>() > 1
            });
            let Some(job) = open.min_by_key(|job| self.turn(*job)) else {
                return;
            };
            let strand = self.job(job).strand;
            let alike = self.alike(job).clone();
            let top = self.model.policy.climb_after * alike.band.above().max(1);
            let runners = self.model.runners.values();
            let taken = runners
                .filter(|runner| self.model.may_take(strand, runner))
                .any(|runner| self.model.takes(runner));
            let all = |name: &str| self.model.seats.get(name).copied().unwrap_or(0);
            let can_have = |name: &str| all(name).saturating_sub(self.claimed(name, job));
            let may = self.now.since(self.job(job).ready) >= top
                && !self.at_limit(alike.project)
                && taken
                && alike
                    .seats
                    .iter()
                    .all(|(name, count)| can_have(name) >= *count);
            if may && self.starts_claimants && self.bar(job).is_none() {
                self.kept.push(job);
                continue;
            }
            settled.insert(strand);
            if may {
                for (name, count) in alike.seats {
                    self.claims.push((job, name, count));
                }
            }
        }
    }

    fn walk(&mut self) {
        loop {
            let open: Vec<JobId> = self
                .waiting()
                .into_iter()
                .filter(|job| self.bar(*job).is_none())
                .collect();
            let Some(band) = open.iter().map(|job| self.band(*job)).min() else {
                return;
            };
            let of_band: Vec<JobId> = open
                .into_iter()
                .filter(|job| self.band(*job) == band)
                .collect();
            let next = self.next_of("", &of_band);
            self.kept.push(next);
        }
    }

    /// The next in order among jobs at or below a team.
    fn next_of(&self, team: &str, jobs: &[JobId]) -> JobId {
        let child = |job: JobId| -> Option<String> {
            let project = self.alike(job).project;
            let rest = match team {
                "" => project,
                team => &project[team.len() + 1..],
            };
            let (first, _) = rest.split_once('/')?;
            Some(match team {
                "" => first.to_owned(),
                team => format!("{team}/{first}"),
            })
        };
        let mut groups: BTreeMap<Option<String>, Vec<JobId>> = BTreeMap::new();
        for job in jobs {
            groups.entry(child(*job)).or_default().push(*job);
        }
        let extra = self.extra();
        let key = |who: &Option<String>, jobs: &[JobId]| {
            let score = match who {
                None => self.model.share(team, true, self.now, &extra),
                Some(child) => self.model.share(child, false, self.now, &extra),
            };
            (score, jobs.iter().map(|job| self.turn(*job)).min())
        };
        let (who, jobs) = groups
            .iter()
            .min_by_key(|(who, jobs)| key(who, jobs))
            .expect("there are jobs");
        match who {
            None => *jobs
                .iter()
                .min_by_key(|job| self.turn(**job))
                .expect("a group has jobs"),
            Some(child) => self.next_of(child, jobs),
        }
    }
}

/// A length in whole seconds.
pub fn seconds(count: u64) -> Duration {
    Duration::from_secs(count)
}
