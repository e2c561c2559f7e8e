//! Why a requirement is not satisfied, and what would satisfy it.

use super::{Expr, Requirement};
use crate::fact::Subject;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use utoipa::ToSchema;

/// How a requirement stands against a yard.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// How many runners were looked at.
    pub runners: u64,
    /// How many of them satisfy the whole.
    pub satisfying: u64,
    /// Each part that must hold, and on how many runners it does not.
    pub clauses: Vec<ClauseCount>,
    /// The runner that fails the fewest clauses, when none satisfies the whole.
    pub nearest: Option<NearMiss>,
    /// Words that nothing in the yard knows.
    pub hints: Vec<Hint>,
}

/// One part of a requirement, and how many runners fail it.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClauseCount {
    /// The part, as the requirement's normal form prints it.
    pub clause: String,
    /// How many runners do not satisfy it.
    pub failing: u64,
}

/// The runner that comes nearest to satisfying a requirement.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct NearMiss {
    /// Its name.
    pub runner: String,
    /// The clauses that it fails.
    pub fails: Vec<String>,
}

/// A word in a requirement that no runner and no pool knows.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Hint {
    /// The word.
    pub word: String,
    /// The known word that is most like it, if one is near.
    pub nearest: Option<String>,
}

impl Hint {
    /// The hint as a sentence.
    pub fn describe(&self) -> String {
        match &self.nearest {
            Some(near) => format!("no runner has \"{}\"; did you mean \"{near}\"?", self.word),
            None => format!("no runner has \"{}\"", self.word),
        }
    }
}

/// Counts, for each clause, the runners that fail it, and finds the nearest miss. Ties go to the first runner given.
pub fn explain<'a>(
    requirement: &Requirement,
    yard: impl IntoIterator<Item = (&'a str, &'a Subject)> + Clone,
) -> Explanation {
    let clauses = requirement.clauses();
    let mut failing = vec![0u64; clauses.len()];
    let (mut runners, mut satisfying) = (0, 0);
    let mut nearest: Option<(usize, NearMiss)> = None;
    for (name, subject) in yard.clone() {
        runners += 1;
        let fails: Vec<&Expr> = clauses
            .iter()
            .zip(failing.iter_mut())
            .filter(|(clause, _)| !clause.holds(subject))
            .map(|(clause, count)| {
                *count += 1;
                clause
            })
            .collect();
        if fails.is_empty() {
            satisfying += 1;
        } else if nearest
            .as_ref()
            .is_none_or(|(fewest, _)| fails.len() < *fewest)
        {
            let miss = NearMiss {
                runner: name.to_owned(),
                fails: fails.iter().map(ToString::to_string).collect(),
            };
            nearest = Some((fails.len(), miss));
        }
    }
    let counts = clauses.iter().zip(failing);
    Explanation {
        runners,
        satisfying,
        clauses: counts
            .map(|(clause, failing)| ClauseCount {
                clause: clause.to_string(),
                failing,
            })
            .collect(),
        nearest: nearest.filter(|_| satisfying == 0).map(|(_, miss)| miss),
        hints: hints(requirement, yard.into_iter().map(|(_, subject)| subject)),
    }
}

/// Every word that some runner in the yard knows.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Vocabulary {
    labels: BTreeSet<String>,
    facts: BTreeSet<String>,
}

impl Vocabulary {
    /// The words of these runners.
    pub fn of<'a>(yard: impl IntoIterator<Item = &'a Subject>) -> Vocabulary {
        let mut words = Vocabulary::default();
        let add = |known: &mut BTreeSet<String>, word: &str| {
            if !known.contains(word) {
                known.insert(word.to_owned());
            }
        };
        for subject in yard {
            subject
                .labels()
                .for_each(|label| add(&mut words.labels, label));
            subject
                .fact_names()
                .for_each(|name| add(&mut words.facts, name));
        }
        words
    }

    /// The words of a requirement that nothing in the yard knows, each with the nearest known one. An empty yard knows
    /// nothing, so it gives no hints.
    pub fn hints(&self, requirement: &Requirement) -> Vec<Hint> {
        let mut found = Vec::new();
        if let Some(expr) = &requirement.0
            && !(self.labels.is_empty() && self.facts.is_empty())
        {
            unknown(expr, &self.labels, &self.facts, &mut found);
        }
        found
    }
}

/// The words of a requirement that nothing in the yard knows: see [`Vocabulary::hints`].
pub fn hints<'a>(
    requirement: &Requirement,
    yard: impl IntoIterator<Item = &'a Subject>,
) -> Vec<Hint> {
    Vocabulary::of(yard).hints(requirement)
}

fn unknown(
    expr: &Expr,
    labels: &BTreeSet<String>,
    facts: &BTreeSet<String>,
    found: &mut Vec<Hint>,
) {
    let mut check = |word: &str, known: &BTreeSet<String>| {
        if !known.contains(word) && !found.iter().any(|hint| hint.word == word) {
            found.push(Hint {
                word: word.to_owned(),
                nearest: nearest(word, known),
            });
        }
    };
    match expr {
        Expr::Label(word) => check(word, labels),
        Expr::Has(name) | Expr::Compare { fact: name, .. } => check(name, facts),
        Expr::Not(inner) => unknown(inner, labels, facts, found),
        Expr::All(parts) | Expr::Any(parts) => parts
            .iter()
            .for_each(|part| unknown(part, labels, facts, found)),
    }
}

/// The known word at the smallest edit distance, if that is at most a third of the word's length (and at least 1).
pub(crate) fn nearest(word: &str, known: &BTreeSet<String>) -> Option<String> {
    let limit = (word.chars().count() / 3).max(1);
    known
        .iter()
        .map(|known| (strsim::damerau_levenshtein(word, known), known))
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, known)| known.clone())
}
