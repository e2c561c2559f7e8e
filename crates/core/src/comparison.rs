//! Two executions of a job side by side, part by part: which part made one of them longer.

use crate::time::{Micros, spoken};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Differences that a sentence names.
const NAMED: usize = 3;
/// The most characters of a part in a sentence.
const NAME: usize = 32;

/// How long each part of an execution took: a waiting reason, its source, a command. A part can stand there more than once.
pub type Parts = Vec<(String, Micros)>;

/// A part of both executions.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct ComparedPart {
    /// `all-busy`, `source`, `command 2`.
    pub part: String,
    /// How long it took in the first execution. None where that one has no such part.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub this_us: Option<Micros>,
    /// How long it took in the other one; where there are several, the median.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub other_us: Option<Micros>,
}

impl ComparedPart {
    /// By how much the first one is longer, in microseconds.
    pub fn difference(&self) -> i64 {
        let of = |length: Option<Micros>| {
            length.map_or(0, |length| i64::try_from(length.0).unwrap_or(i64::MAX))
        };
        of(self.this_us).saturating_sub(of(self.other_us))
    }
}

/// The sums of the parts of one execution, by name.
fn sums(parts: &Parts) -> BTreeMap<&str, u64> {
    let mut sums = BTreeMap::new();
    for (part, length) in parts {
        let sum: &mut u64 = sums.entry(part.as_str()).or_default();
        *sum = sum.saturating_add(length.0);
    }
    sums
}

/// Compares an execution with others, part by part: with the median of theirs, by nearest rank, where an execution without a part counts
/// as 0. In the order of the first, then of what only others have.
pub fn compare(this: &Parts, others: &[Parts]) -> Vec<ComparedPart> {
    let own = sums(this);
    let theirs: Vec<BTreeMap<&str, u64>> = others.iter().map(sums).collect();
    let mut names: Vec<&str> = Vec::new();
    for (part, _) in this.iter().chain(others.iter().flatten()) {
        if !names.contains(&part.as_str()) {
            names.push(part);
        }
    }
    let compared = names.into_iter().map(|part| {
        let mut lengths: Vec<u64> = (theirs.iter())
            .map(|sums| sums.get(part).copied().unwrap_or(0))
            .collect();
        lengths.sort_unstable();
        // The nearest rank of a half: of ten, the fifth.
        let median = lengths
            .get(lengths.len().div_ceil(2).saturating_sub(1))
            .copied();
        let is_theirs = theirs.iter().any(|sums| sums.contains_key(part));
        ComparedPart {
            part: part.to_owned(),
            this_us: own.get(part).map(|length| Micros(*length)),
            other_us: median.filter(|_| is_theirs).map(Micros),
        }
    });
    compared.collect()
}

/// A part as a sentence names it: a long command is cut.
fn shortened(part: &str) -> String {
    match part.char_indices().nth(NAME) {
        Some((end, _)) => format!("{}…", part.get(..end).unwrap_or_default().trim_end()),
        None => part.to_owned(),
    }
}

fn signed(difference: i64) -> String {
    let length = spoken(Micros(difference.unsigned_abs()).into());
    match difference < 0 {
        true => format!("-{length}"),
        false => format!("+{length}"),
    }
}

/// A comparison in a sentence: which took longer, by how much, and in which parts. Less than a hundredth, or a tenth of a second, is no
/// difference.
pub fn describe(this: &str, other: &str, parts: &[ComparedPart]) -> String {
    let sum = |of: fn(&ComparedPart) -> Option<Micros>| {
        let lengths = parts.iter().filter_map(of);
        lengths.fold(0_u64, |sum, length| sum.saturating_add(length.0))
    };
    let (whole, theirs) = (sum(|part| part.this_us), sum(|part| part.other_us));
    let said = |micros: u64| spoken(Micros(micros).into());
    let difference = whole.abs_diff(theirs);
    if difference < 100_000 || difference < theirs / 100 {
        return format!("{this} took {}, as long as {other}.", said(whole));
    }
    let is_longer = whole > theirs;
    let mut telling: Vec<&ComparedPart> = (parts.iter())
        .filter(|part| (part.difference() > 0) == is_longer)
        // A tenth of the difference, at least.
        .filter(|part| part.difference().unsigned_abs() >= difference / 10)
        .collect();
    telling.sort_by_key(|part| std::cmp::Reverse(part.difference().unsigned_abs()));
    let telling: Vec<String> = (telling.iter().take(NAMED))
        .map(|part| format!("{} {}", shortened(&part.part), signed(part.difference())))
        .collect();
    let word = if is_longer { "longer" } else { "shorter" };
    let (whole, theirs, difference) = (said(whole), said(theirs), said(difference));
    let parts = match telling.is_empty() {
        true => String::new(),
        false => format!(": {}", telling.join(", ")),
    };
    format!("{this} took {whole}, {difference} {word} than {other} ({theirs}){parts}.")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parts(of: &[(&str, u64)]) -> Parts {
        let parts = of.iter();
        parts
            .map(|(part, seconds)| ((*part).to_owned(), Micros(seconds * 1_000_000)))
            .collect()
    }

    #[test]
    fn parts_are_summed_and_compared_with_the_median_of_others() {
        let this = parts(&[
            ("all-busy", 10),
            ("command 1", 5),
            ("all-busy", 2),
            ("command 2", 90),
        ]);
        let others = [
            parts(&[("command 1", 4), ("command 2", 30)]),
            parts(&[("machine-coming", 40), ("command 1", 6), ("command 2", 35)]),
            parts(&[("command 1", 5), ("command 2", 31)]),
        ];
        let compared = compare(&this, &others);
        let shown: Vec<(&str, Option<u64>, Option<u64>)> = (compared.iter())
            .map(|one| {
                let seconds = |length: Option<Micros>| length.map(|length| length.0 / 1_000_000);
                (
                    one.part.as_str(),
                    seconds(one.this_us),
                    seconds(one.other_us),
                )
            })
            .collect();
        assert_eq!(
            shown,
            [
                ("all-busy", Some(12), None),
                ("command 1", Some(5), Some(5)),
                ("command 2", Some(90), Some(31)),
                ("machine-coming", None, Some(0)),
            ]
        );
        assert_eq!(
            describe("j-12", "the median of 3 jobs", &compared),
            "j-12 took 1 min 47 s, 1 min 11 s longer than the median of 3 jobs (36 s): command 2 +59 s, all-busy +12 s."
        );
    }

    #[test]
    fn a_shorter_one_and_an_equal_one_are_called_so() {
        let long = "command 1: make check CFLAGS=-O2 VERBOSE=1";
        let cut = compare(&parts(&[(long, 9)]), &[parts(&[(long, 3)])]);
        assert_eq!(
            describe("j-2", "j-1", &cut),
            "j-2 took 9.0 s, 6.0 s longer than j-1 (3.0 s): command 1: make check CFLAGS=-O2… +6.0 s."
        );
        let (long, short) = (parts(&[("commands", 60)]), parts(&[("commands", 20)]));
        let compared = compare(&short, std::slice::from_ref(&long));
        assert_eq!(
            describe("j-2", "j-1", &compared),
            "j-2 took 20 s, 40 s shorter than j-1 (1 min): commands -40 s."
        );
        let compared = compare(&long, std::slice::from_ref(&long));
        assert_eq!(
            describe("j-2", "j-1", &compared),
            "j-2 took 1 min, as long as j-1."
        );
        assert_eq!(
            describe("j-2", "j-1", &[]),
            "j-2 took 0 ms, as long as j-1."
        );
    }
}
