//! Who submitted what and when, and what became of it.

use crate::Error;
use crate::record::{StrandVisit, Yard};
use crate::scenario::{Day, Scenario, Work};
use pennine_core::dispatch::{Assignment, Event};
use pennine_core::engine::Settlement;
use pennine_core::id::{AttemptId, JobId, LeaseToken, RunId, RunnerId, StrandId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::queue_sample::QueueSample;
use pennine_core::simulate::{SimulationEvent, World};
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::history::{PastJob, PastLevel, PastReason};
use rand::Rng;
use rand::RngExt;
use rand_distr::{Distribution, LogNormal, Normal, Poisson};
use std::collections::{HashMap, VecDeque};
use std::time::Duration;
use uuid::Uuid;

const MINUTE: Duration = Duration::from_secs(60);
const HOUR: Duration = Duration::from_secs(3600);

/// One job, decided upon before the simulation, which only adds who ran it and when.
struct PlannedJob {
    work: usize,
    ready: Moment,
    runs: Duration,
    /// From its assignment until its command runs.
    handover: Duration,
    failed: bool,
    /// Processor time over wall time.
    load: f64,
    peak_memory: ByteSize,
    ids: [Uuid; 4],
    assigned: Option<(Moment, RunnerId)>,
}

/// A made-up yard's past, as a world to simulate.
pub struct Past<'a> {
    scenario: &'a Scenario,
    yard: &'a Yard,
    from: Moment,
    lots: Vec<PlannedJob>,
    by_job: HashMap<JobId, usize>,
    coming: VecDeque<(Moment, Vec<SimulationEvent>)>,
    reasons: Vec<PastReason>,
    /// Slots that took work from some moment on.
    offered: Vec<(Moment, u32)>,
    /// What each machine did of itself, and what its pool did, in order.
    turns: Vec<(Moment, Turn)>,
}

/// A machine came or went, or a pool was paused or resumed.
enum Turn {
    Machine(usize, bool),
    Pool(String, bool),
}

impl<'a> Past<'a> {
    /// Decides who submits what and when.
    pub fn new(
        scenario: &'a Scenario,
        yard: &'a Yard,
        from: Moment,
        until: Moment,
        lots: &mut impl Rng,
    ) -> Result<Self, Error> {
        let days = Day::between(from, until)?;
        let mut jobs = Vec::new();
        for (at, work) in scenario.work.iter().enumerate() {
            for ready in submissions(work, &days, lots)? {
                if ready >= from && ready < until {
                    jobs.push(PlannedJob::draw(at, work, ready, lots)?);
                }
            }
        }
        jobs.sort_by_key(|lot| lot.ready);
        let mut events: Vec<(Moment, Event)> = yard
            .begin()
            .into_iter()
            .map(|event| (from, event))
            .collect();
        let mut by_job = HashMap::new();
        for (number, lot) in jobs.iter().enumerate() {
            let job = lot.job();
            by_job.insert(job, number);
            let strand = yard.strand(lot.work).map(|strand| strand.id);
            let wait = |strand| Event::Waits {
                job,
                strand,
                ready: lot.ready,
                since: lot.ready,
                number: i64::try_from(number).unwrap_or(i64::MAX),
                avoid: None,
            };
            events.extend(strand.map(|strand| (lot.ready, wait(strand))));
        }
        let mut past = Past {
            scenario,
            yard,
            from,
            lots: jobs,
            by_job,
            coming: VecDeque::new(),
            reasons: Vec::new(),
            offered: Vec::new(),
            turns: Vec::new(),
        };
        let changes = past.changes(&days)?;
        past.count_offered(&changes);
        events.extend(changes);
        events.sort_by_key(|(at, _)| *at);
        past.coming = events
            .into_iter()
            .map(|(at, event)| (at, vec![event.into()]))
            .collect();
        Ok(past)
    }

    /// Machines that come and go, and pools that were paused.
    fn changes(&self, days: &[Day]) -> Result<Vec<(Moment, Event)>, Error> {
        let mut changes = Vec::new();
        for (at, machine) in self.scenario.runners.iter().enumerate() {
            let Some([comes, goes]) = machine.hours else {
                continue;
            };
            changes.extend(
                self.yard
                    .runner(at, RunnerState::Offline)
                    .map(|event| (self.from, event)),
            );
            for day in days.iter().filter(|day| day.workday) {
                for (time, state) in [
                    (comes, RunnerState::Available),
                    (goes, RunnerState::Offline),
                ] {
                    let event = self.yard.runner(at, state);
                    changes.extend(event.map(|event| (day.begins + time.0, event)));
                }
            }
        }
        for paused in &self.scenario.paused {
            let day = days
                .iter()
                .rev()
                .skip(paused.days_back as usize)
                .find(|day| day.workday)
                .ok_or_else(|| Error::Scenario("no working day is so far back".into()))?;
            for (time, state) in paused.hours.iter().zip([true, false]) {
                let event = self.yard.pool(&paused.pool, state)?;
                changes.push((day.begins + time.0, event));
            }
        }
        changes.retain(|(at, _)| *at >= self.from);
        Ok(changes)
    }

    /// How many slots took work, and when that changed.
    fn count_offered(&mut self, changes: &[(Moment, Event)]) {
        let mut changes: Vec<&(Moment, Event)> = changes.iter().collect();
        changes.sort_by_key(|(at, _)| *at);
        let mut there: Vec<bool> = self.scenario.runners.iter().map(|_| true).collect();
        let mut paused: Vec<String> = Vec::new();
        let count = |there: &[bool], paused: &[String]| -> u32 {
            let machines = self.scenario.runners.iter().zip(there);
            machines
                .filter(|(machine, there)| **there && !paused.contains(&machine.pool))
                .map(|(machine, _)| machine.slots)
                .sum()
        };
        let mut offered = vec![(self.from, count(&there, &paused))];
        let mut turns = Vec::new();
        for (at, event) in changes {
            match event {
                Event::Runner(view) => {
                    let machines = self.scenario.runners.iter().enumerate();
                    for ((place, machine), there) in machines.zip(&mut there) {
                        if machine.name == view.name {
                            *there = view.state == RunnerState::Available;
                            turns.push((*at, Turn::Machine(place, *there)));
                        }
                    }
                }
                Event::Pool(view) => {
                    paused.retain(|name| *name != view.name);
                    paused.extend(view.paused.then(|| view.name.clone()));
                    turns.push((*at, Turn::Pool(view.name.clone(), view.paused)));
                }
                _ => {}
            }
            offered.push((*at, count(&there, &paused)));
        }
        self.offered = offered;
        self.turns = turns;
    }

    /// When each machine was there, and when it took work, which it did not while its pool was paused.
    pub fn stays(&self, until: Moment) -> (Vec<StrandVisit>, Vec<StrandVisit>) {
        let (mut there, mut took) = (Vec::new(), Vec::new());
        for (place, machine) in self.scenario.runners.iter().enumerate() {
            let (mut here, mut paused) = (true, false);
            let (mut came, mut took_from) = (self.from, self.from);
            let turns = self.turns.iter().filter(|(at, _)| *at < until);
            let mine = turns.filter(|(_, turn)| match turn {
                Turn::Machine(which, _) => *which == place,
                Turn::Pool(name, _) => *name == machine.pool,
            });
            let stay = |from: Moment, until: Moment| StrandVisit {
                machine: place,
                from,
                until,
            };
            for (at, turn) in mine {
                let before = (here, here && !paused);
                match turn {
                    Turn::Machine(_, now) => here = *now,
                    Turn::Pool(_, now) => paused = *now,
                }
                match (before.0, here) {
                    (true, false) => there.push(stay(came, *at)),
                    (false, true) => came = *at,
                    _ => {}
                }
                match (before.1, here && !paused) {
                    (true, false) => took.push(stay(took_from, *at)),
                    (false, true) => took_from = *at,
                    _ => {}
                }
            }
            if here {
                there.push(stay(came, until));
            }
            if here && !paused {
                took.push(stay(took_from, until));
            }
        }
        there.retain(|stay| stay.from < stay.until);
        took.retain(|stay| stay.from < stay.until);
        (there, took)
    }

    /// What was over by then: the jobs, what was said of the strands, and how the yard stood minute by minute.
    pub fn told(mut self, until: Moment) -> (Vec<PastJob>, Vec<PastReason>, Vec<PastLevel>) {
        let levels = self.levels(until);
        let jobs = self.lots.iter().filter_map(|lot| self.job(lot));
        let jobs: Vec<PastJob> = jobs.filter(|job| job.finished_at <= until).collect();
        self.reasons.retain(|reason| reason.since <= until);
        // Nothing of it waits any more when the real service begins.
        for strand in self.yard.strands() {
            self.reasons.push(PastReason {
                strand: strand.id,
                since: until,
                segments: Vec::new(),
            });
        }
        (jobs, self.reasons, levels)
    }

    fn levels(&self, until: Moment) -> Vec<PastLevel> {
        // Whatever begins and ends, as a change by one.
        let mut changes: Vec<(Moment, i64, i64)> = Vec::new();
        for lot in &self.lots {
            changes.push((lot.ready, 1, 0));
            if let Some((assigned, _)) = lot.assigned {
                changes.push((assigned, -1, 1));
                changes.push((assigned + lot.held(), 0, -1));
            }
        }
        for left in &self.scenario.left {
            changes.push((left.ready(until), 1, 0));
        }
        changes.sort_unstable();
        let mut changes = changes.into_iter().peekable();
        let mut offered = self.offered.iter().peekable();
        let (mut waiting, mut executing, mut slots) = (0i64, 0i64, 0u32);
        let mut levels = Vec::new();
        let mut at = self.from;
        while at <= until {
            let mut peak = waiting;
            while let Some((_, waits, runs)) = changes.next_if(|(when, ..)| *when <= at) {
                waiting += waits;
                executing += runs;
                peak = peak.max(waiting);
            }
            while let Some((_, count)) = offered.next_if(|(when, _)| *when <= at) {
                slots = *count;
            }
            let small = |n: i64| u32::try_from(n).unwrap_or(0);
            levels.push(PastLevel {
                at,
                level: QueueSample {
                    waiting: small(peak),
                    executing: small(executing),
                    idle: slots.saturating_sub(small(executing)),
                    coming: 0,
                },
            });
            at = at + MINUTE;
        }
        levels
    }

    fn job(&self, lot: &PlannedJob) -> Option<PastJob> {
        let work = self.scenario.work.get(lot.work)?;
        let strand = self.yard.strand(lot.work)?;
        let (assigned_at, runner) = lot.assigned?;
        let (pool, policy_version) = self.yard.pool_of(runner)?;
        let started_at = assigned_at + lot.handover;
        let exited_at = started_at + lot.runs;
        Some(PastJob {
            imported: false,
            id: lot.job(),
            run: RunId(lot.ids[1]),
            attempt: attempt_at(assigned_at, lot.ids[2]),
            lease: LeaseToken(lot.ids[3]),
            project: strand.project,
            strand: strand.id,
            runner,
            pool,
            policy_version,
            by: "forge".into(),
            title: work.title.clone(),
            requirement: work.requirement.clone(),
            command: work.command.clone(),
            band: work.band,
            seats: work.seats.clone(),
            time_limit_us: (HOUR * 2).into(),
            result: if lot.failed {
                Outcome::Failure
            } else {
                Outcome::Success
            },
            message: lot.failed.then(|| "exit code 2".to_owned()),
            exit_code: Some(if lot.failed { 2 } else { 0 }),
            ready_at: lot.ready,
            assigned_at,
            started_at,
            exited_at,
            finished_at: assigned_at + lot.held(),
            processor_us: Micros::from(lot.runs.mul_f64(lot.load)),
            peak_memory: lot.peak_memory,
        })
    }
}

impl World for Past<'_> {
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)> {
        self.coming.pop_front()
    }

    fn strand(&mut self, strand: StrandId) -> Option<Event> {
        self.yard.strand_event(strand)
    }

    fn started(&mut self, assignment: &Assignment, at: Moment) -> Duration {
        let lot = self
            .by_job
            .get(&assignment.job)
            .and_then(|number| self.lots.get_mut(*number));
        lot.map_or(Duration::ZERO, |lot| {
            lot.assigned = Some((at, assignment.runner));
            lot.held()
        })
    }

    fn settled(&mut self, settlement: &Settlement, at: Moment) {
        let message = settlement.reasons.iter().map(|change| PastReason {
            strand: change.strand,
            since: at,
            segments: change.segments.clone(),
        });
        self.reasons.extend(message);
    }
}

impl PlannedJob {
    fn draw(
        at: usize,
        work: &Work,
        ready: Moment,
        lots: &mut impl Rng,
    ) -> Result<PlannedJob, Error> {
        let odd = |e| Error::Scenario(format!("{}: {e}", work.title));
        let runs = LogNormal::new((work.minutes * 60.0).ln(), work.spread.ln())
            .map_err(|e| odd(e.to_string()))?;
        let memory = LogNormal::new(300f64.ln(), 0.6).map_err(|e| odd(e.to_string()))?;
        let failed = lots.random_bool(work.fails.clamp(0.0, 1.0));
        // What fails tends to fail early.
        let part = if failed {
            lots.random_range(0.2..1.0)
        } else {
            1.0
        };
        let runs = Duration::from_secs_f64((runs.sample(lots) * part).clamp(2.0, 7_000.0));
        let mut ids = [Uuid::nil(); 4];
        for id in &mut ids {
            *id = Uuid::from_u128(lots.random());
        }
        ids[0] = id_at(ready, ids[0]);
        ids[1] = id_at(ready, ids[1]);
        Ok(PlannedJob {
            work: at,
            ready,
            runs: Duration::from_micros(u64::try_from(runs.as_micros()).unwrap_or(0)),
            handover: Duration::from_micros(lots.random_range(900..9_000)),
            failed,
            load: lots.random_range(0.4..1.9),
            peak_memory: ByteSize((memory.sample(lots) * 1_048_576.0) as u64),
            ids,
            assigned: None,
        })
    }

    fn job(&self) -> JobId {
        JobId(self.ids[0])
    }

    /// How long it holds its slot: until its end is reported.
    fn held(&self) -> Duration {
        self.handover + self.runs + Duration::from_millis(4)
    }
}

fn attempt_at(at: Moment, lot: Uuid) -> AttemptId {
    AttemptId(id_at(at, lot))
}

/// A version 7 UUID of this moment.
fn id_at(at: Moment, lot: Uuid) -> Uuid {
    let millis = at.micros().max(0).unsigned_abs() / 1000;
    let mut random = [0; 10];
    random.copy_from_slice(&lot.as_bytes()[..10]);
    uuid::Builder::from_unix_timestamp_millis(millis, &random).into_uuid()
}

/// When jobs of this kind were submitted.
fn submissions(work: &Work, days: &[Day], lots: &mut impl Rng) -> Result<Vec<Moment>, Error> {
    let mut all = Vec::new();
    for day in days {
        let wanted = if day.workday {
            work.workday
        } else {
            work.weekend
        };
        if wanted > 0.0 {
            // No day is quite like another.
            let mood = LogNormal::new(0.0, 0.15).map_err(|e| Error::Scenario(e.to_string()))?;
            let count = Poisson::new(wanted * mood.sample(lots))
                .map_err(|e| Error::Scenario(e.to_string()))?
                .sample(lots) as u32;
            for _ in 0..count {
                all.push(day.begins + time_of_day(day.workday, lots)?);
            }
        }
        if let Some(nightly) = &work.nightly {
            for n in 0..nightly.jobs {
                let jitter = Duration::from_millis(lots.random_range(0..200));
                all.push(day.begins + nightly.at.0 + Duration::from_millis(250) * n + jitter);
            }
        }
    }
    Ok(all)
}

/// A time of day: about 10:30 or 14:30 on a working day, at any waking hour on another.
fn time_of_day(workday: bool, lots: &mut impl Rng) -> Result<Duration, Error> {
    let odd = |e: rand_distr::NormalError| Error::Scenario(e.to_string());
    loop {
        let hours = match (workday, lots.random_bool(0.55)) {
            (true, true) => Normal::new(10.5, 1.1).map_err(odd)?.sample(lots),
            (true, false) => Normal::new(14.6, 1.3).map_err(odd)?.sample(lots),
            (false, _) => lots.random_range(8.0..22.0),
        };
        if (6.5..22.0).contains(&hours) {
            return Ok(Duration::from_micros((hours * 3.6e9) as u64));
        }
    }
}
