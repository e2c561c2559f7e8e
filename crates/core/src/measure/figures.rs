//! What people read of sums: each number with its unit, and how many it is of.

use super::cell::{ByReason, Cell, at_reason};
use super::rank::{PerMille, Ranked, nearest};
use super::work_span::{MachineTime, Offered, WorkSpan};
use crate::capacity::Money;
use crate::count::grouped;
use crate::dispatch::Reason;
use crate::lifecycle::job::Outcome;
use crate::time::{Micros, Moment, spoken};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What is not over yet and belongs to a window: the ages so far of waits that began in it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Open {
    /// Sums of the parts that lie within the window: waits and work that go on, slots that are offered, machines that
    /// are paid for.
    pub within: Cell,
    /// Ages so far, in microseconds.
    pub ages: Vec<u64>,
    /// What those waits were for so far.
    pub waited: ByReason,
}

impl Open {
    /// Adds what a work span that goes on, cut off now, adds to a window. `waits` says whether it still waits.
    pub fn add_work_span(
        &mut self,
        work_span: &WorkSpan,
        waits: bool,
        from: Moment,
        until: Moment,
    ) {
        if work_span.ready >= from && work_span.ready < until {
            let waited = if waits {
                self.ages.push(work_span.waited());
                &mut self.waited
            } else {
                self.within.waits.add(work_span.waited());
                &mut self.within.waited
            };
            for span in &work_span.wait {
                at_reason(waited, span.reason, span.length_us.0);
            }
        }
        for span in &work_span.wait {
            let within = overlap(span.from, span.to, from, until);
            at_reason(&mut self.within.waiting, span.reason, within);
        }
        if let Some(assigned) = work_span.assigned {
            self.within.busy += overlap(assigned, work_span.ended, from, until);
        }
    }

    /// Adds what an offer that goes on adds to a window.
    pub fn add_offered(&mut self, offered: &Offered, from: Moment, until: Moment) {
        let within = overlap(offered.from, offered.until, from, until);
        self.within.offered += within * u64::from(offered.slots);
    }

    /// Adds what a machine that is there adds to a window.
    pub fn add_machine(&mut self, machine: &MachineTime, from: Moment, until: Moment) {
        let paid = overlap(machine.ordered, machine.until, from, until);
        self.within.paid += paid;
        self.within.cost += u128::from(paid) * u128::from(machine.price.0);
        if let Some(joined) = machine.joined {
            let gone = machine.released.unwrap_or(machine.until);
            self.within.served += overlap(joined, gone.min(machine.until), from, until);
        }
    }

    /// Adds another's.
    pub fn merge(&mut self, other: &Open) {
        self.within.merge(&other.within);
        self.ages.extend(&other.ages);
        for (mine, theirs) in self.waited.iter_mut().zip(other.waited) {
            *mine += theirs;
        }
    }
}

/// How much of a stretch lies within another, in microseconds.
fn overlap(from: Moment, until: Moment, a: Moment, b: Moment) -> u64 {
    u64::try_from(until.min(b).micros() - from.max(a).micros()).unwrap_or(0)
}

/// A percentile by nearest rank.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Quantile {
    pub value_us: Micros,
    /// Whether it can still rise, because a job that is still waiting is not older.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub at_least: bool,
    /// Too few waits to tell it from the longest.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub few: bool,
}

impl From<Ranked> for Quantile {
    fn from(ranked: Ranked) -> Self {
        Quantile {
            value_us: Micros(ranked.value),
            at_least: ranked.may_rise,
            few: ranked.few,
        }
    }
}

/// The waits that began in a window.
#[derive(Clone, PartialEq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WaitFigures {
    /// How many waits there are, including those in progress: the sample of the percentiles.
    pub count: u64,
    /// How many of them still wait.
    pub still_waiting: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p50: Option<Quantile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p90: Option<Quantile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p95: Option<Quantile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p99: Option<Quantile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub longest: Option<Quantile>,
    /// All of them together, so far.
    pub sum_us: Micros,
    /// What they waited for: the parts add up to the sum.
    pub by_reason: BTreeMap<Reason, Micros>,
}

/// What is known of a window.
#[derive(Clone, PartialEq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WindowFigures {
    pub wait: WaitFigures,
    /// Time that anybody waited within the window, by reason: the integral of the number waiting. Divided by the window's
    /// length it is how many waited on average.
    pub waiting_us: BTreeMap<Reason, Micros>,
    /// Jobs that ended in the window.
    pub results: BTreeMap<Outcome, u64>,
    /// Attempts that was lost: their runner was lost, or never took them.
    pub lost: u64,
    /// How long commands ran that ended in the window.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ran_p50: Option<Quantile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ran_p95: Option<Quantile>,
    /// The sum of that.
    pub ran_us: Micros,
    /// Processor time that those used.
    pub processor_us: Micros,
    /// The most memory that one of them used, in bytes.
    pub peak_memory: u64,
    /// Slot-time that attempts held.
    pub busy_us: Micros,
    /// Slot-time that runners offered; none where what was asked for is not a pool's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offered_us: Option<Micros>,
    /// Machine-time that was paid for, from order to gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paid_us: Option<Micros>,
    /// The part of it in which no runner was there: boot and release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub overhead_us: Option<Micros>,
    /// What that cost, in millionths of the currency.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost: Option<Money>,
}

fn by_reason(sums: &[u64], more: &[u64]) -> BTreeMap<Reason, Micros> {
    let sums = sums.iter().zip(more).map(|(one, more)| one + more);
    let all = Reason::ALL.iter().copied().zip(sums);
    all.filter(|(_, micros)| *micros > 0)
        .map(|(reason, micros)| (reason, Micros(micros)))
        .collect()
}

impl WindowFigures {
    /// What is known of a window: what is over and counted, and what goes on. `owns` says whether slots and machines
    /// belong to what was asked for.
    pub fn of(over: &Cell, open: &Open, owns: bool) -> WindowFigures {
        let mut all = over.clone();
        all.merge(&open.within);
        let at =
            |share| nearest(PerMille(share), all.waits.values(), &open.ages).map(Quantile::from);
        let waited = by_reason(&all.waited, &open.waited);
        let ran = |share| nearest(PerMille(share), all.runs.values(), &[]).map(Quantile::from);
        let results = Outcome::ALL.iter().copied().zip(all.results);
        WindowFigures {
            wait: WaitFigures {
                count: all.waits.count() + open.ages.len() as u64,
                still_waiting: open.ages.len() as u64,
                p50: at(500),
                p90: at(900),
                p95: at(950),
                p99: at(990),
                longest: at(1000),
                sum_us: Micros(waited.values().map(|micros| micros.0).sum()),
                by_reason: waited,
            },
            waiting_us: by_reason(&all.waiting, &[0; Reason::ALL.len()]),
            results: results.filter(|(_, count)| *count > 0).collect(),
            lost: all.lost,
            ran_p50: ran(500),
            ran_p95: ran(950),
            ran_us: Micros(all.ran),
            processor_us: Micros(all.processor),
            peak_memory: all.peak_memory,
            busy_us: Micros(all.busy),
            offered_us: owns.then_some(Micros(all.offered)),
            paid_us: owns.then_some(Micros(all.paid)),
            overhead_us: owns.then_some(Micros(all.paid.saturating_sub(all.served))),
            cost: owns.then(|| all.money()),
        }
    }

    /// Busy slot-time by offered slot-time; none where nothing was offered.
    pub fn utilisation(&self) -> Option<f64> {
        let offered = self.offered_us?.0;
        (offered > 0).then(|| self.busy_us.0 as f64 / offered as f64)
    }

    /// Jobs that ended.
    pub fn jobs(&self) -> u64 {
        self.results.values().sum()
    }

    /// Jobs that ended well.
    pub fn successes(&self) -> u64 {
        self.results.get(&Outcome::Success).copied().unwrap_or(0)
    }

    /// Jobs that ended and were neither successful, cancelled nor skipped.
    pub fn failures(&self) -> u64 {
        [Outcome::Failure, Outcome::Error, Outcome::Timeout]
            .iter()
            .filter_map(|result| self.results.get(result))
            .sum()
    }

    /// What a successful job cost, in millionths.
    pub fn cost_each(&self) -> Option<Money> {
        let (cost, successes) = (self.cost?, self.successes());
        (successes > 0).then(|| Money(cost.0 / successes))
    }

    /// Jobs that waited, on average over a window of this length.
    pub fn waiting_mean(&self, window: Micros) -> f64 {
        let all: u64 = self.waiting_us.values().map(|micros| micros.0).sum();
        if window.0 == 0 {
            0.0
        } else {
            all as f64 / window.0 as f64
        }
    }
}

/// What was found, as a sentence or two. `whose` is who waited: "jobs of shore".
pub fn answer(figures: &WindowFigures, before: Option<&WindowFigures>, whose: &str) -> String {
    let wait = &figures.wait;
    let (Some(median), Some(most)) = (wait.p50, wait.p95) else {
        return match figures.jobs() {
            0 => format!("No data on {whose} in this period."),
            jobs => format!(
                "{} {whose} ended, and none became ready in this period.",
                grouped(jobs)
            ),
        };
    };
    let describe = |one: Quantile| {
        let at_least = if one.at_least { "at least " } else { "" };
        format!("{at_least}{}", spoken(one.value_us.into()))
    };
    let mut text = format!(
        "{} {whose}: median wait {}, 95th percentile {}{}.",
        grouped(wait.count),
        describe(median),
        describe(most),
        if most.few {
            " (few jobs: uncertain)"
        } else {
            ""
        }
    );
    let longest = wait.by_reason.iter().max_by_key(|(_, micros)| **micros);
    if let Some((reason, micros)) = longest
        && wait.sum_us.0 > 0
    {
        let share = (micros.0 as f64 * 100.0 / wait.sum_us.0 as f64).round();
        text += &format!(
            " {share:.0} % of the time spent waiting was for {}.",
            reason.noun()
        );
    }
    if wait.still_waiting > 0 {
        let s = if wait.still_waiting == 1 {
            "waits"
        } else {
            "wait"
        };
        text += &format!(" {} still {s}.", grouped(wait.still_waiting));
    }
    if let Some(earlier) = before.and_then(|before| before.wait.p95) {
        text += &format!(" Previous period: 95th percentile {}.", describe(earlier));
    }
    text
}
