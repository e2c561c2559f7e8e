//! What a runner found on its machine, and what a requirement can therefore ask.

use crate::size::ByteSize;
use crate::version::Version;
use serde::de::{self, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use utoipa::ToSchema;

/// A runner's facts by name, as they cross the wire and are stored: `{"os": "linux", "cores": 2, "mem": "24GiB"}`.
pub type Facts = BTreeMap<String, FactValue>;

/// The value of one fact.
#[derive(Clone, PartialEq, Eq, Hash, Debug, Serialize, ToSchema)]
#[serde(untagged)]
pub enum FactValue {
    /// A count, such as `cores`.
    Count(u64),
    /// A word, a size or a version, by the fact's [`kind`].
    Text(String),
}

/// Read by hand: a page of five thousand runners reads a hundred thousand of them, and trying one kind after the other
/// took half of its time.
impl<'de> Deserialize<'de> for FactValue {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Either;
        impl Visitor<'_> for Either {
            type Value = FactValue;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a count or a text")
            }
            fn visit_u64<E: de::Error>(self, count: u64) -> Result<FactValue, E> {
                Ok(FactValue::Count(count))
            }
            fn visit_i64<E: de::Error>(self, count: i64) -> Result<FactValue, E> {
                let wrong = |_| E::invalid_value(de::Unexpected::Signed(count), &self);
                u64::try_from(count).map(FactValue::Count).map_err(wrong)
            }
            fn visit_str<E: de::Error>(self, text: &str) -> Result<FactValue, E> {
                Ok(FactValue::Text(text.to_owned()))
            }
            fn visit_string<E: de::Error>(self, text: String) -> Result<FactValue, E> {
                Ok(FactValue::Text(text))
            }
        }
        from.deserialize_any(Either)
    }
}

impl FactValue {
    /// A size as a fact, exact to the byte.
    pub fn size(size: ByteSize) -> Self {
        let text = size.to_string();
        if text.parse() == Ok(size) {
            FactValue::Text(text)
        } else {
            FactValue::Text(format!("{}KiB", size.0 / 1024))
        }
    }
}

impl fmt::Display for FactValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FactValue::Count(count) => count.fmt(f),
            FactValue::Text(text) => text.fmt(f),
        }
    }
}

/// How a fact compares.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum FactKind {
    /// Whole numbers: `cores`.
    Count,
    /// Bytes, written with a unit: `mem`, `disk`.
    Size,
    /// Words, which are equal or not: `os`, `arch`, `host`, `runner`, `pool`.
    Word,
    /// Any other fact: a version when both sides read as one, a word otherwise.
    Open,
}

/// How the fact of this name compares.
pub fn kind(name: &str) -> FactKind {
    match name {
        "cores" => FactKind::Count,
        "mem" | "disk" => FactKind::Size,
        "os" | "arch" | "host" | "runner" | "pool" => FactKind::Word,
        _ => FactKind::Open,
    }
}

/// Everything about one runner that a requirement can ask: its labels (its pool's included, and its `os` and `arch`)
/// and its facts (with `runner` and `pool`, its names). Words are folded to lower case.
#[derive(Clone, PartialEq, Eq, Hash, Debug, Default)]
pub struct Subject {
    labels: BTreeSet<String>,
    facts: BTreeMap<String, FactValue>,
}

impl Subject {
    /// A runner's subject. `labels` are the runner's own and its pool's.
    pub fn new<'a>(
        runner: &str,
        pool: &str,
        labels: impl IntoIterator<Item = &'a str>,
        facts: &Facts,
    ) -> Self {
        let mut subject = Subject::default();
        subject
            .labels
            .extend(labels.into_iter().map(str::to_lowercase));
        for (name, value) in facts {
            let value = match value {
                FactValue::Text(text) => FactValue::Text(text.to_lowercase()),
                count => count.clone(),
            };
            if let ("os" | "arch", FactValue::Text(word)) = (name.as_str(), &value) {
                subject.labels.insert(word.clone());
            }
            subject.facts.insert(name.to_lowercase(), value);
        }
        subject
            .facts
            .insert("runner".into(), FactValue::Text(runner.to_lowercase()));
        subject
            .facts
            .insert("pool".into(), FactValue::Text(pool.to_lowercase()));
        subject
    }

    /// Whether the label is there.
    pub fn has_label(&self, label: &str) -> bool {
        self.labels.contains(label)
    }

    /// The fact's value, if it is known.
    pub fn fact(&self, name: &str) -> Option<&FactValue> {
        self.facts.get(name)
    }

    /// The same without these facts.
    pub fn without(&self, names: &[&str]) -> Subject {
        let mut rest = self.clone();
        rest.facts.retain(|name, _| !names.contains(&name.as_str()));
        rest
    }

    /// Every label.
    pub fn labels(&self) -> impl Iterator<Item = &str> {
        self.labels.iter().map(String::as_str)
    }

    /// Every fact's name.
    pub fn fact_names(&self) -> impl Iterator<Item = &str> {
        self.facts.keys().map(String::as_str)
    }
}

/// A fact's value read as a version, where it is one.
pub fn as_version(value: &FactValue) -> Option<Version> {
    match value {
        FactValue::Count(count) => count.to_string().parse().ok(),
        FactValue::Text(text) => text.parse().ok(),
    }
}

/// A fact's value read as a size, where it is one.
pub fn as_size(value: &FactValue) -> Option<ByteSize> {
    match value {
        FactValue::Count(bytes) => Some(ByteSize(*bytes)),
        FactValue::Text(text) => text.parse().ok(),
    }
}

/// A fact's value read as a count, where it is one.
pub fn as_count(value: &FactValue) -> Option<u64> {
    match value {
        FactValue::Count(count) => Some(*count),
        FactValue::Text(text) => text.parse().ok(),
    }
}
