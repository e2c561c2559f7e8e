//! What is added up: work spans of jobs, and what runners and machines offered and cost.

use super::cell::{Cell, at_reason, at_result};
use super::resolution::{Resolution, spread};
use crate::dispatch::{Price, Reason};
use crate::lifecycle::job::Outcome;
use crate::time::Moment;
use crate::wait::Span;
use std::collections::BTreeMap;

/// Cells by when their stretch begins.
pub type Cells = BTreeMap<Moment, Cell>;

/// One attempt of a job, or a wait that led to none. It is over.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct WorkSpan {
    /// When the wait began.
    pub ready: Moment,
    /// Its parts, one after the other from `ready` on.
    pub wait: Vec<Span>,
    /// When the wait was over: the command started, or the work span was lost.
    pub waited_until: Moment,
    /// When a runner was given it; none where none was.
    pub assigned: Option<Moment>,
    /// When its command started.
    pub started: Option<Moment>,
    /// When its command ended.
    pub exited: Option<Moment>,
    /// When it was over, and its slot free.
    pub ended: Moment,
    /// The job's result, where this was its last work span.
    pub result: Option<Outcome>,
    /// Whether it was lost and its job went on or ended without it.
    pub lost: bool,
    /// Processor time, in microseconds.
    pub processor: u64,
    /// The most memory, in bytes.
    pub peak_memory: u64,
}

impl WorkSpan {
    /// How long its command ran, in microseconds.
    pub fn ran(&self) -> Option<u64> {
        let end = self.exited.unwrap_or(self.ended);
        Some(length(self.started?, end))
    }

    /// How long it waited, in microseconds.
    pub fn waited(&self) -> u64 {
        length(self.ready, self.waited_until)
    }

    /// What it adds to the stretches of a resolution.
    pub fn cells(&self, resolution: Resolution) -> Cells {
        let mut cells = Cells::new();
        let ready = cells.entry(resolution.start(self.ready)).or_default();
        ready.waits.add(self.waited());
        for span in &self.wait {
            at_reason(&mut ready.waited, span.reason, span.length_us.0);
        }
        for span in &self.wait {
            for (start, within) in spread(span.from, span.to, resolution) {
                at_reason(
                    &mut cells.entry(start).or_default().waiting,
                    span.reason,
                    within,
                );
            }
        }
        if let Some(assigned) = self.assigned {
            for (start, within) in spread(assigned, self.ended, resolution) {
                cells.entry(start).or_default().busy += within;
            }
        }
        let ended = cells.entry(resolution.start(self.ended)).or_default();
        if let Some(ran) = self.ran() {
            ended.runs.add(ran);
            ended.ran += ran;
        }
        if let Some(result) = self.result {
            at_result(&mut ended.results, result);
        }
        ended.lost += u64::from(self.lost);
        ended.processor += self.processor;
        ended.peak_memory = ended.peak_memory.max(self.peak_memory);
        cells
    }

    /// The reasons for which it waited, each with how long, in microseconds.
    pub fn reasons(&self) -> BTreeMap<Reason, u64> {
        let mut reasons = BTreeMap::new();
        for span in self.wait.iter().filter(|span| span.length_us.0 > 0) {
            *reasons.entry(span.reason).or_default() += span.length_us.0;
        }
        reasons
    }

    /// What the part of its wait that was for one reason adds to the stretches of a resolution, as if it had waited for nothing
    /// else. Only the sums of waits are set.
    pub fn reason_cells(&self, reason: Reason, resolution: Resolution) -> Cells {
        let mut cell = Cell::default();
        if let Some(micros) = self.reasons().get(&reason) {
            cell.waits.add(*micros);
            at_reason(&mut cell.waited, reason, *micros);
        }
        Cells::from([(resolution.start(self.ready), cell)])
    }
}

fn length(from: Moment, until: Moment) -> u64 {
    u64::try_from(until.micros().saturating_sub(from.micros())).unwrap_or(0)
}

/// A stretch in which a runner offered slots.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Offered {
    pub from: Moment,
    pub until: Moment,
    pub slots: u32,
}

impl Offered {
    /// What it adds to the stretches of a resolution.
    pub fn cells(&self, resolution: Resolution) -> Cells {
        let mut cells = Cells::new();
        for (start, within) in spread(self.from, self.until, resolution) {
            cells.entry(start).or_default().offered += within * u64::from(self.slots);
        }
        cells
    }
}

/// What a machine was paid for, and for how long its runner was there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct MachineTime {
    pub ordered: Moment,
    /// When its runner came; none where it never did.
    pub joined: Option<Moment>,
    /// When its release was requested; none if it was not.
    pub released: Option<Moment>,
    /// When it was gone, or now.
    pub until: Moment,
    pub price: Price,
}

impl MachineTime {
    /// What it adds to the stretches of a resolution.
    pub fn cells(&self, resolution: Resolution) -> Cells {
        let mut cells = Cells::new();
        for (start, within) in spread(self.ordered, self.until, resolution) {
            let cell = cells.entry(start).or_default();
            cell.paid += within;
            cell.cost += u128::from(within) * u128::from(self.price.0);
        }
        if let Some(joined) = self.joined {
            let until = self.released.unwrap_or(self.until).min(self.until);
            for (start, within) in spread(joined, until, resolution) {
                cells.entry(start).or_default().served += within;
            }
        }
        cells
    }
}
