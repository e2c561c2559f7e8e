//! The combinations of a job's `vary`.

use super::MOST_JOBS;
use super::error::Mistakes;
use super::format::{Scalar, WrittenVariation};
use std::collections::BTreeMap;
use toml::Spanned;

/// A combination: names and values, in the order of the sheet.
pub(super) type Combination = Vec<(String, String)>;

/// Combinations that are left out, and that are added.
const WITHOUT: &str = "without";
const ALSO: &str = "also";

fn table(written: &BTreeMap<String, Scalar>) -> BTreeMap<String, String> {
    let pairs = written.iter();
    pairs
        .map(|(name, value)| (name.clone(), value.to_string()))
        .collect()
}

/// Every combination of the listed values, without the combinations that `without` matches, and with the ones of `also`. One without names where
/// nothing varies.
pub(super) fn combinations(
    vary: &BTreeMap<Spanned<String>, Spanned<WrittenVariation>>,
    mistakes: &mut Mistakes<'_>,
) -> Vec<Combination> {
    let mut written: Vec<_> = vary.iter().collect();
    written.sort_by_key(|(name, _)| name.span().start);
    let mut names: Vec<String> = Vec::new();
    let mut all: Vec<Combination> = vec![Vec::new()];
    for (name, variation) in &written {
        let (name, at) = (name.get_ref(), variation.span().start);
        if [WITHOUT, ALSO].contains(&name.as_str()) {
            continue;
        }
        let values = match variation.get_ref() {
            WrittenVariation::Values(values) if !values.is_empty() => values,
            WrittenVariation::Values(_) => {
                mistakes.add(at, format!("vary.{name}: list at least one value"));
                continue;
            }
            WrittenVariation::Combinations(_) => {
                mistakes.add(at, format!("vary.{name}: list values, not tables"));
                continue;
            }
        };
        if all.len().saturating_mul(values.len()) > MOST_JOBS {
            let count = all.len().saturating_mul(values.len());
            let message =
                format!("vary makes {count} or more jobs of one; a sheet has at most {MOST_JOBS}");
            mistakes.add(at, message);
            return all;
        }
        names.push(name.clone());
        let extended = all.iter().flat_map(|before| {
            values.iter().map(|value| {
                let mut combination = before.clone();
                combination.push((name.clone(), value.to_string()));
                combination
            })
        });
        all = extended.collect();
    }
    for (key, variation) in &written {
        let at = variation.span().start;
        let WrittenVariation::Combinations(tables) = variation.get_ref() else {
            // An empty list is read as a list of values.
            let is_empty = matches!(variation.get_ref(), WrittenVariation::Values(values) if values.is_empty());
            if [WITHOUT, ALSO].contains(&key.get_ref().as_str()) && !is_empty {
                mistakes.add(
                    at,
                    format!("vary.{}: list tables of names and values", key.get_ref()),
                );
            }
            continue;
        };
        for written in tables {
            let table = table(written);
            if let Some(unknown) = table.keys().find(|name| !names.contains(*name)) {
                let message = format!("vary.{}: {unknown} does not vary", key.get_ref());
                mistakes.add(at, message);
                continue;
            }
            match key.get_ref().as_str() {
                WITHOUT => {
                    let count = all.len();
                    all.retain(|one| {
                        let differs = |(name, value): &(String, String)| {
                            table.get(name).is_some_and(|other| other != value)
                        };
                        one.iter().any(differs)
                    });
                    if all.len() == count {
                        mistakes.add(at, "vary.without: a table matches no combination");
                    }
                }
                ALSO => {
                    let missing = names.iter().find(|name| !table.contains_key(*name));
                    if let Some(missing) = missing {
                        mistakes.add(at, format!("vary.also: a table has no value for {missing}"));
                        continue;
                    }
                    let named = |name: &String| Some((name.clone(), table.get(name)?.clone()));
                    all.push(names.iter().filter_map(named).collect());
                }
                _ => {}
            }
        }
    }
    if all.is_empty() {
        let at = written.first().map_or(0, |(name, _)| name.span().start);
        mistakes.add(at, "vary: no combination is left");
    }
    all
}
