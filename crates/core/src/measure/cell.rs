//! Sums over one stretch of time. Adding cells is adding their numbers, in any order.
//!
//! As bytes: a 1 for the format, then whole numbers, each in groups of seven bits, the lowest first, with the eighth bit
//! set where more follow (LEB128). A list has its length before it; of a histogram, each part stands as its distance from
//! the one before and its count.

use super::histogram::Histogram;
use crate::capacity::Money;
use crate::dispatch::Reason;
use crate::lifecycle::job::Outcome;
use std::collections::BTreeMap;

/// The format of cells as bytes.
const FORMAT: u8 = 1;
/// Microseconds of an hour, for which a price is.
const HOUR: u128 = 3_600_000_000;

/// Microseconds by reason, in the order of [`Reason::ALL`].
pub type ByReason = [u64; Reason::ALL.len()];
/// Jobs by result, in the order of [`Outcome::ALL`].
pub type ByResult = [u64; Outcome::ALL.len()];

/// See the module's head.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Cell {
    /// The waits that began here, all of which are over.
    pub waits: Histogram,
    /// What those waits were for, whole.
    pub waited: ByReason,
    /// Time that anybody waited within the stretch, by reason: the integral of the number waiting.
    pub waiting: ByReason,
    /// Slot-time that attempts held within the stretch.
    pub busy: u64,
    /// Jobs that ended here.
    pub results: ByResult,
    /// Attempts that was lost and ended here.
    pub lost: u64,
    /// How long commands ran that ended here.
    pub runs: Histogram,
    /// The sum of that.
    pub ran: u64,
    /// Processor time of what ended here.
    pub processor: u64,
    /// The most memory of what ended here, in bytes.
    pub peak_memory: u64,
    /// Slot-time that runners offered within the stretch.
    pub offered: u64,
    /// Machine-time that was paid for, and the part of it in which the runner was there.
    pub paid: u64,
    pub served: u64,
    /// Price (for an hour, in millionths) times microseconds.
    pub cost: u128,
}

/// Bytes that are no cell.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error("these bytes are no sums of this format")]
pub struct Corrupt;

/// Adds to what a reason has.
pub(super) fn at_reason(sums: &mut ByReason, reason: Reason, micros: u64) {
    let place = Reason::ALL.iter().position(|one| *one == reason);
    if let Some(sum) = place.and_then(|place| sums.get_mut(place)) {
        *sum += micros;
    }
}

/// Counts a result.
pub(super) fn at_result(counts: &mut ByResult, result: Outcome) {
    let place = Outcome::ALL.iter().position(|one| *one == result);
    if let Some(count) = place.and_then(|place| counts.get_mut(place)) {
        *count += 1;
    }
}

impl Cell {
    /// Adds another cell's sums.
    pub fn merge(&mut self, other: &Cell) {
        self.waits.merge(&other.waits);
        for (mine, theirs) in self.waited.iter_mut().zip(other.waited) {
            *mine += theirs;
        }
        for (mine, theirs) in self.waiting.iter_mut().zip(other.waiting) {
            *mine += theirs;
        }
        self.busy += other.busy;
        for (mine, theirs) in self.results.iter_mut().zip(other.results) {
            *mine += theirs;
        }
        self.lost += other.lost;
        self.runs.merge(&other.runs);
        self.ran += other.ran;
        self.processor += other.processor;
        self.peak_memory = self.peak_memory.max(other.peak_memory);
        self.offered += other.offered;
        self.paid += other.paid;
        self.served += other.served;
        self.cost += other.cost;
    }

    /// What it cost.
    pub fn money(&self) -> Money {
        Money(u64::try_from(self.cost / HOUR).unwrap_or(u64::MAX))
    }

    /// As bytes, the same for the same sums.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = vec![FORMAT];
        let mut put = |number: u128| {
            let mut rest = number;
            loop {
                let low = u8::try_from(rest & 0x7f).unwrap_or(0);
                rest >>= 7;
                if rest == 0 {
                    bytes.push(low);
                    return;
                }
                bytes.push(low | 0x80);
            }
        };
        let mut histogram = |of: &Histogram| {
            let parts = of.parts();
            put(parts.len() as u128);
            let mut before = 0u16;
            for (part, count) in parts {
                put(u128::from(part - before));
                put(u128::from(*count));
                before = *part;
            }
        };
        histogram(&self.waits);
        histogram(&self.runs);
        for list in [&self.waited[..], &self.waiting[..], &self.results[..]] {
            put(list.len() as u128);
            for number in list {
                put(u128::from(*number));
            }
        }
        for number in [
            self.busy,
            self.lost,
            self.ran,
            self.processor,
            self.peak_memory,
            self.offered,
            self.paid,
            self.served,
        ] {
            put(u128::from(number));
        }
        put(self.cost);
        bytes
    }

    /// Reads what [`Cell::to_bytes`] wrote. A list that has grown since is read as far as it goes.
    pub fn from_bytes(bytes: &[u8]) -> Result<Cell, Corrupt> {
        let mut from = Reader::of(bytes)?;
        let mut cell = Cell {
            waits: from.histogram()?,
            runs: from.histogram()?,
            ..Cell::default()
        };
        from.rest(&mut cell)?;
        Ok(cell)
    }
}

/// Adds many cells up from their bytes. Of the histograms it keeps every part at hand, which takes more memory than a
/// cell does and a tenth of the time.
#[derive(Clone, Debug, Default)]
pub struct Adder {
    sums: Cell,
    waits: Vec<u64>,
    runs: Vec<u64>,
}

impl Adder {
    /// Adds a cell that [`Cell::to_bytes`] wrote.
    pub fn add(&mut self, bytes: &[u8]) -> Result<(), Corrupt> {
        let mut from = Reader::of(bytes)?;
        from.parts(|part, count| add_part(&mut self.waits, part, count))?;
        from.parts(|part, count| add_part(&mut self.runs, part, count))?;
        let mut rest = Cell::default();
        from.rest(&mut rest)?;
        self.sums.merge(&rest);
        Ok(())
    }

    /// Adds everything that another has added up.
    pub fn merge(&mut self, other: Adder) -> Result<(), Corrupt> {
        for (mine, theirs) in [
            (&mut self.waits, &other.waits),
            (&mut self.runs, &other.runs),
        ] {
            if mine.len() < theirs.len() {
                mine.resize(theirs.len(), 0);
            }
            for (sum, count) in mine.iter_mut().zip(theirs) {
                *sum = sum.checked_add(*count).ok_or(Corrupt)?;
            }
        }
        self.sums.merge(&other.sums);
        Ok(())
    }

    /// What it comes to.
    pub fn sum(self) -> Result<Cell, Corrupt> {
        let mut cell = self.sums;
        cell.waits = histogram(&self.waits)?;
        cell.runs = histogram(&self.runs)?;
        Ok(cell)
    }
}

fn add_part(counts: &mut Vec<u64>, part: u16, count: u64) -> Result<(), Corrupt> {
    let place = usize::from(part);
    if place >= counts.len() {
        counts.resize(place + 1, 0);
    }
    let sum = counts.get_mut(place).ok_or(Corrupt)?;
    *sum = sum.checked_add(count).ok_or(Corrupt)?;
    Ok(())
}

fn histogram(counts: &[u64]) -> Result<Histogram, Corrupt> {
    let parts = counts.iter().enumerate().filter(|(_, count)| **count > 0);
    let parts = parts.filter_map(|(part, count)| Some((u16::try_from(part).ok()?, *count)));
    Histogram::from_parts(parts.collect()).ok_or(Corrupt)
}

struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn of(bytes: &'a [u8]) -> Result<Self, Corrupt> {
        match bytes.split_first() {
            Some((&FORMAT, rest)) => Ok(Reader(rest)),
            _ => Err(Corrupt),
        }
    }

    /// Everything after the histograms, to the end.
    fn rest(&mut self, cell: &mut Cell) -> Result<(), Corrupt> {
        self.list(&mut cell.waited)?;
        self.list(&mut cell.waiting)?;
        self.list(&mut cell.results)?;
        for number in [
            &mut cell.busy,
            &mut cell.lost,
            &mut cell.ran,
            &mut cell.processor,
            &mut cell.peak_memory,
            &mut cell.offered,
            &mut cell.paid,
            &mut cell.served,
        ] {
            *number = self.small()?;
        }
        cell.cost = self.number()?;
        if self.0.is_empty() {
            Ok(())
        } else {
            Err(Corrupt)
        }
    }

    fn number(&mut self) -> Result<u128, Corrupt> {
        let mut number = 0u128;
        for place in 0..19u32 {
            let (&byte, rest) = self.0.split_first().ok_or(Corrupt)?;
            self.0 = rest;
            let low = u128::from(byte & 0x7f);
            let placed = low.checked_shl(place * 7).ok_or(Corrupt)?;
            if placed >> (place * 7) != low {
                return Err(Corrupt);
            }
            number |= placed;
            if byte & 0x80 == 0 {
                return Ok(number);
            }
        }
        Err(Corrupt)
    }

    /// As [`Reader::number`], for what fits into 64 bits, which is nearly everything.
    fn small(&mut self) -> Result<u64, Corrupt> {
        let (&first, rest) = self.0.split_first().ok_or(Corrupt)?;
        if first < 0x80 {
            self.0 = rest;
            return Ok(u64::from(first));
        }
        u64::try_from(self.number()?).map_err(|_| Corrupt)
    }

    fn list(&mut self, into: &mut [u64]) -> Result<(), Corrupt> {
        let length = usize::try_from(self.small()?).map_err(|_| Corrupt)?;
        if length > into.len() {
            return Err(Corrupt);
        }
        for number in into.iter_mut().take(length) {
            *number = self.small()?;
        }
        Ok(())
    }

    /// The parts of a histogram, each with its count.
    fn parts(
        &mut self,
        mut each: impl FnMut(u16, u64) -> Result<(), Corrupt>,
    ) -> Result<(), Corrupt> {
        let length = self.small()?;
        let mut before = 0u16;
        for _ in 0..length {
            let step = u16::try_from(self.small()?).map_err(|_| Corrupt)?;
            before = before.checked_add(step).ok_or(Corrupt)?;
            each(before, self.small()?)?;
        }
        Ok(())
    }

    fn histogram(&mut self) -> Result<Histogram, Corrupt> {
        let mut parts = BTreeMap::new();
        self.parts(|part, count| {
            parts.insert(part, count);
            Ok(())
        })?;
        Histogram::from_parts(parts).ok_or(Corrupt)
    }
}
