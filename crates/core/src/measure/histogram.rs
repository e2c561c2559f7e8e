//! A mergeable histogram of lengths of time, log-linear: each power of two is cut into 64 equal parts.
//!
//! A part is at most 1/64 of its lower edge wide and is read as its middle, so that a value read is off by at most 1/128
//! (0.8 %) of the true one. Values below 128 us are exact. Merging adds counts, so it can be done in any order.

use std::collections::BTreeMap;

/// Parts in each power of two.
const PARTS: u64 = 64;
/// Below this, each value has a part of its own.
const EXACT: u64 = 2 * PARTS;

/// Counts of lengths of time, in microseconds.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Histogram {
    parts: BTreeMap<u16, u64>,
    count: u64,
}

/// The part in which a value is counted.
fn part(micros: u64) -> u16 {
    if micros < EXACT {
        return u16::try_from(micros).unwrap_or(0);
    }
    // The highest bit, and the six after it.
    let power = u64::from(63 - micros.leading_zeros());
    let within = (micros >> (power - 6)) - PARTS;
    u16::try_from(EXACT + (power - 7) * PARTS + within).unwrap_or(u16::MAX)
}

/// The middle of a part.
fn middle(part: u16) -> u64 {
    let part = u64::from(part);
    if part < EXACT {
        return part;
    }
    let (power, within) = ((part - EXACT) / PARTS + 7, (part - EXACT) % PARTS);
    let width = 1u64
        .checked_shl(u32::try_from(power - 6).unwrap_or(0))
        .unwrap_or(0);
    let low = width.saturating_mul(PARTS + within);
    low.saturating_add(width / 2)
}

impl Histogram {
    /// Counts one length of time.
    pub fn add(&mut self, micros: u64) {
        *self.parts.entry(part(micros)).or_default() += 1;
        self.count += 1;
    }

    /// Counts all that another has counted.
    pub fn merge(&mut self, other: &Histogram) {
        for (part, count) in &other.parts {
            *self.parts.entry(*part).or_default() += count;
        }
        self.count += other.count;
    }

    /// How many were counted.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Whether nothing was counted.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Values with their counts, the shortest first.
    pub fn values(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        self.parts
            .iter()
            .map(|(part, count)| (middle(*part), *count))
    }

    /// How many are certainly longer than a length: those of the parts above its own.
    pub fn above(&self, micros: u64) -> u64 {
        let own = part(micros);
        self.parts
            .range(own..)
            .filter(|(part, _)| **part > own)
            .map(|(_, count)| count)
            .sum()
    }

    pub(super) fn parts(&self) -> &BTreeMap<u16, u64> {
        &self.parts
    }

    pub(super) fn from_parts(parts: BTreeMap<u16, u64>) -> Option<Histogram> {
        let mut count = 0u64;
        for one in parts.values() {
            count = count.checked_add(*one)?;
        }
        Some(Histogram { parts, count })
    }
}
