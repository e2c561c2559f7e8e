//! What people set of a runner, laid over what its machine says of itself.
//!
//! Both are kept: a person's word stands until it is taken back, and then the machine's is there again. Each setting
//! tells who made it and when.

use crate::fact::{FactKind, FactValue, Facts, as_count, as_size, kind};
use crate::finding::Finding;
use crate::time::Moment;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What a machine says of itself; laid over with [`Overrides`], what counts.
#[derive(Clone, PartialEq, Debug, Default, Serialize, Deserialize)]
pub struct ReportedFacts {
    pub labels: Vec<String>,
    pub facts: Facts,
    pub slots: u32,
    /// What is not as it should be on it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
}

/// Something that a person set.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Override<T> {
    pub value: T,
    /// Who set it.
    pub by: String,
    pub at: Moment,
}

/// What people set of one runner.
#[derive(Clone, PartialEq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Overrides {
    /// How many jobs it takes at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slots: Option<Override<u32>>,
    /// Labels that it has (true) or has not (false), whatever its machine says.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Override<bool>>,
    /// Facts that are other than its machine says, or that its machine does not know.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, Override<FactValue>>,
    /// Environment variables of every job that it runs. A job's own of the same name win.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, Override<String>>,
    /// Folders in which programs are looked for first, by jobs and by the runner that looks for tools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paths: Option<Override<Vec<String>>>,
}

impl Overrides {
    /// What counts: the machine's word, and people's over it.
    pub fn over(&self, told: &ReportedFacts) -> ReportedFacts {
        let taken = |label: &String| self.labels.get(label).is_some_and(|set| !set.value);
        let mut labels: Vec<String> = told.labels.iter().filter(|l| !taken(l)).cloned().collect();
        for (label, set) in &self.labels {
            if set.value && !labels.contains(label) {
                labels.push(label.clone());
            }
        }
        let mut facts = told.facts.clone();
        facts.extend(
            self.facts
                .iter()
                .map(|(name, set)| (name.clone(), set.value.clone())),
        );
        ReportedFacts {
            labels,
            facts,
            slots: self.slots.as_ref().map_or(told.slots, |set| set.value),
            findings: told.findings.clone(),
        }
    }
}

/// Why a fact cannot be set.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum WrongFact {
    /// The requirement language could not ask for a fact of this name.
    #[error(
        "{0:?} cannot be a fact: a fact's name is up to 63 letters, digits, - and _, and begins with a letter"
    )]
    Name(String),
    /// What the runner and its pool are called is set elsewhere.
    #[error("{0} is the runner's name, not a fact of its machine; rename the runner instead")]
    Called(String),
    /// The value is not of the fact's kind.
    #[error("{name} is {wanted}, and {value:?} is not")]
    Value {
        /// The fact.
        name: String,
        /// What kind of value it has.
        wanted: &'static str,
        /// The value that was given.
        value: String,
    },
}

/// The most facts of a machine that are kept.
pub const MOST_FACTS: usize = 256;

/// Returns what is kept of the facts that a machine reports: those with a proper name and value, at most [`MOST_FACTS`].
pub fn accepted(reported: &Facts) -> Facts {
    let proper = reported.iter().filter_map(|(name, value)| {
        let value = checked(name, value).ok()?;
        Some((name.clone(), value))
    });
    proper.take(MOST_FACTS).collect()
}

/// Checks a fact that a person wants to set, and gives its value in the form in which it is kept.
pub fn checked(name: &str, value: &FactValue) -> Result<FactValue, WrongFact> {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    let begins = name.starts_with(|c: char| c.is_ascii_alphabetic());
    let keyword = ["and", "or", "not", "has"].contains(&name.to_lowercase().as_str());
    if !begins || name.len() > 63 || !name.chars().all(fits) || keyword {
        return Err(WrongFact::Name(name.to_owned()));
    }
    if matches!(name, "runner" | "pool") {
        return Err(WrongFact::Called(name.to_owned()));
    }
    let wrong = |wanted| WrongFact::Value {
        name: name.to_owned(),
        wanted,
        value: value.to_string(),
    };
    match kind(name) {
        FactKind::Count => as_count(value)
            .map(FactValue::Count)
            .ok_or_else(|| wrong("a whole number")),
        FactKind::Size => as_size(value)
            .map(FactValue::size)
            .ok_or_else(|| wrong("a size, such as 16GiB")),
        FactKind::Word | FactKind::Open => {
            let text = value.to_string();
            if text.is_empty() || text.len() > 200 || text.chars().any(char::is_control) {
                return Err(wrong("a word or a version of 1 to 200 bytes"));
            }
            Ok(FactValue::Text(text))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_what_a_machine_reports_only_proper_facts_are_kept_and_not_too_many() {
        let word = |text: &str| FactValue::Text(text.to_owned());
        let many = (0..1_000).map(|n| (format!("tool-{n}"), word("1.2")));
        assert_eq!(accepted(&many.collect()).len(), MOST_FACTS);
        let odd = [
            ("fine", word("12.2")),
            ("pool", word("staithe")),
            ("9lives", word("1")),
            ("bell", word("\u{7}")),
            ("long", word(&"x".repeat(300))),
        ];
        let odd = odd.map(|(name, value)| (name.to_owned(), value));
        let kept: Vec<String> = accepted(&odd.into()).into_keys().collect();
        assert_eq!(kept, ["fine"]);
    }
    use proptest::prelude::*;

    fn set<T>(value: T) -> Override<T> {
        Override {
            value,
            by: "mason".into(),
            at: Moment::default(),
        }
    }

    fn text(value: &str) -> FactValue {
        FactValue::Text(value.into())
    }

    #[test]
    fn an_override_replaces_the_reported_fact_until_it_is_reset() {
        let told = ReportedFacts {
            findings: Vec::new(),
            labels: vec!["bench".into(), "shared".into()],
            facts: [("gcc".to_owned(), text("12.2.0"))].into(),
            slots: 2,
        };
        let mut settings = Overrides {
            slots: Some(set(4)),
            labels: [
                ("shared".to_owned(), set(false)),
                ("calm".to_owned(), set(true)),
            ]
            .into(),
            facts: [("scope".to_owned(), set(text("4.1")))].into(),
            ..Overrides::default()
        };
        let now = settings.over(&told);
        assert_eq!(now.labels, ["bench", "calm"]);
        assert_eq!(now.slots, 4);
        assert_eq!(now.facts.len(), 2);
        settings.labels.remove("shared");
        settings.slots = None;
        let now = settings.over(&told);
        assert_eq!(now.labels, ["bench", "shared", "calm"]);
        assert_eq!(now.slots, 2);
    }

    proptest! {
        #[test]
        fn nothing_set_changes_nothing(labels in proptest::collection::vec("[a-z]{1,5}", 0..5), slots in 0u32..9) {
            let told = ReportedFacts { labels, slots, ..ReportedFacts::default() };
            prop_assert_eq!(Overrides::default().over(&told), told);
        }
    }

    #[test]
    fn facts_are_kept_in_the_form_in_which_they_compare() {
        assert_eq!(checked("mem", &text("24 GiB")), Ok(text("24GiB")));
        assert_eq!(checked("cores", &text("8")), Ok(FactValue::Count(8)));
        assert_eq!(checked("gcc", &FactValue::Count(12)), Ok(text("12")));
        for (name, value) in [
            ("mem", "much"),
            ("cores", "some"),
            ("host", ""),
            ("a b", "1"),
            ("or", "1"),
            ("9lives", "1"),
            ("runner", "fell-01"),
        ] {
            assert!(checked(name, &text(value)).is_err(), "{name} = {value}");
        }
    }
}
