//! What is different between two yards, thing by thing and word by word.

use super::alerts::AlertsEntry;
use super::document::Yard;
use super::kind::{EVERYWHERE, THRESHOLDS, ThingKind};
use serde::Serialize;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// A thing of a yard: what kind it is, and its name or path. In the order in which they can be made.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct NamedThing {
    pub kind: ThingKind,
    pub name: String,
}

/// One thing that is not as the file says.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct Difference {
    pub kind: ThingKind,
    pub name: String,
    /// `new`, `changed`, or `unmentioned` in the file.
    pub what: DifferenceAction,
    /// What differs, by its key in the file: as it is, and as the file says.
    pub keys: BTreeMap<String, (String, String)>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum DifferenceAction {
    New,
    Changed,
    Unmentioned,
}

type Keys = BTreeMap<String, String>;

/// Every thing of a yard with what holds for it, as text.
fn things(yard: &Yard) -> BTreeMap<NamedThing, Keys> {
    let mut all = BTreeMap::new();
    let mut add = |kind, name: &String, value: serde_json::Result<Value>| {
        let mut keys = Keys::new();
        flatten("", &value.unwrap_or_default(), &mut keys);
        let name = name.clone();
        all.insert(NamedThing { kind, name }, keys);
    };
    for (name, entry) in &yard.teams {
        add(ThingKind::Team, name, serde_json::to_value(entry));
    }
    for (name, entry) in &yard.projects {
        add(ThingKind::Project, name, serde_json::to_value(entry));
    }
    for (name, entry) in &yard.seats {
        add(ThingKind::Seat, name, serde_json::to_value(entry));
    }
    for (name, entry) in &yard.suppliers {
        add(ThingKind::Supplier, name, serde_json::to_value(entry));
    }
    for (name, entry) in &yard.pools {
        add(ThingKind::Pool, name, serde_json::to_value(entry));
    }
    for (name, entry) in &yard.targets {
        add(ThingKind::Target, name, serde_json::to_value(entry));
    }
    if let Some(entry) = &yard.alerts {
        add(
            ThingKind::Alerts,
            &THRESHOLDS.to_owned(),
            serde_json::to_value(entry),
        );
    }
    for (name, entry) in &yard.tokens {
        add(ThingKind::Token, name, serde_json::to_value(entry));
    }
    if let Some(entry) = &yard.installation {
        let name = EVERYWHERE.to_owned();
        add(ThingKind::Installation, &name, serde_json::to_value(entry));
    }
    all
}

/// Names of keys joined with dots, each with its value as people would write it.
fn flatten(before: &str, value: &Value, into: &mut Keys) {
    match value {
        Value::Object(keys) => {
            for (key, value) in keys {
                let name = if before.is_empty() {
                    key.clone()
                } else {
                    format!("{before}.{key}")
                };
                flatten(&name, value, into);
            }
        }
        Value::Null => {}
        // An empty variable is not a missing one.
        Value::String(text) if text.is_empty() && before.starts_with("variables.") => {
            into.insert(before.to_owned(), "\"\"".to_owned());
        }
        Value::String(text) if text.is_empty() => {}
        Value::String(text) => {
            into.insert(before.to_owned(), text.clone());
        }
        Value::Array(items) if items.is_empty() => {}
        Value::Array(items) => {
            let items: Vec<String> = items
                .iter()
                .map(|item| {
                    item.as_str()
                        .map_or_else(|| item.to_string(), str::to_owned)
                })
                .collect();
            into.insert(before.to_owned(), items.join(", "));
        }
        other => {
            into.insert(before.to_owned(), other.to_string());
        }
    }
}

/// What would have to change for the yard to be as the file says.
pub fn between(there: &Yard, wanted: &Yard) -> Vec<Difference> {
    // There are always thresholds; where they are as usual, a file need not mention them.
    let unsaid = wanted.alerts.is_none() && there.alerts == Some(AlertsEntry::default());
    let (mut there, wanted) = (things(there), things(wanted));
    if unsaid {
        there.retain(|thing, _| thing.kind != ThingKind::Alerts);
    }
    let all: BTreeSet<&NamedThing> = there.keys().chain(wanted.keys()).collect();
    let mut found = Vec::new();
    for thing in all {
        let mut keys = BTreeMap::new();
        let what = match (there.get(thing), wanted.get(thing)) {
            (Some(_), None) => DifferenceAction::Unmentioned,
            (None, wanted) => {
                for (key, value) in wanted.into_iter().flatten() {
                    keys.insert(key.clone(), (String::new(), value.clone()));
                }
                DifferenceAction::New
            }
            (Some(is), Some(wanted)) => {
                let names: BTreeSet<&String> = is.keys().chain(wanted.keys()).collect();
                for name in names {
                    if let Some(pair) = differs(name, is.get(name), wanted.get(name)) {
                        keys.insert(name.clone(), pair);
                    }
                }
                if keys.is_empty() {
                    continue;
                }
                DifferenceAction::Changed
            }
        };
        found.push(Difference {
            kind: thing.kind,
            name: thing.name.clone(),
            what,
            keys,
        });
    }
    found
}

fn differs(key: &str, is: Option<&String>, wanted: Option<&String>) -> Option<(String, String)> {
    if is == wanted {
        return None;
    }
    // Where a secret is read from is this side's alone: only whether it is there can be compared.
    if key.starts_with("secret_files.") && is.is_some() == wanted.is_some() {
        return None;
    }
    // Pausing is for people, unless the file speaks of it.
    if key == "paused" && wanted.is_none() {
        return None;
    }
    Some((
        is.cloned().unwrap_or_default(),
        wanted.cloned().unwrap_or_default(),
    ))
}

/// Differences as text.
pub fn differences_text(all: &[Difference]) -> String {
    let mut text = String::new();
    for one in all
        .iter()
        .filter(|one| one.what != DifferenceAction::Unmentioned)
    {
        let new = if one.what == DifferenceAction::New {
            "new "
        } else {
            ""
        };
        text += &format!("{new}{} {}\n", one.kind.word(), one.name);
        let width = one.keys.keys().map(String::len).max().unwrap_or(0);
        let shown = |value: &str| match value {
            "" => "(nothing)".to_owned(),
            value => value.to_owned(),
        };
        for (key, (is, wanted)) in &one.keys {
            if one.what == DifferenceAction::New {
                text += &format!("  {key:width$}  {}\n", shown(wanted));
            } else {
                text += &format!("  {key:width$}  {} -> {}\n", shown(is), shown(wanted));
            }
        }
    }
    text
}

/// What the file does not mention, as one line.
pub fn unmentioned(all: &[Difference]) -> Option<String> {
    let names: Vec<String> = all
        .iter()
        .filter(|one| one.what == DifferenceAction::Unmentioned)
        .map(|one| format!("{} {}", one.kind.word(), one.name))
        .collect();
    (!names.is_empty()).then(|| names.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn yard(text: &str) -> Yard {
        Yard::parse(text).unwrap()
    }

    #[test]
    fn a_difference_names_each_key_with_both_values() {
        let there = yard(
            "[teams.shore]\n[pools.staithe]\nlabels = ['a']\npaused = true\n[seats.s]\ncount = 1",
        );
        let wanted = yard(
            "[teams.shore]\nlimit = 3\n[teams.chartroom]\n[pools.staithe]\nlabels = ['b', 'a']",
        );
        let found = between(&there, &wanted);
        assert_eq!(
            differences_text(&found),
            "new team chartroom\n  weight  1\nteam shore\n  limit  (nothing) -> 3\npool staithe\n  labels  a -> a, b\n"
        );
        assert_eq!(unmentioned(&found).as_deref(), Some("seat s"));
        assert_eq!(between(&there, &there), []);
    }

    #[test]
    fn secrets_are_compared_by_their_names_alone() {
        let of = |file: &str| {
            yard(&format!(
                "[suppliers.s]\nkind = 'command'\nsecret_files = {{{file}}}"
            ))
        };
        assert_eq!(between(&of("key = 'a'"), &of("key = 'b'")), []);
        let found = between(&of(""), &of("key = 'b'"));
        assert_eq!(
            differences_text(&found),
            "supplier s\n  secret_files.key  (nothing) -> b\n"
        );
    }
}
