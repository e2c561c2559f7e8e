//! The keys of a job sheet, as they are written.

use crate::dispatch::Band;
use crate::lifecycle::words;
use crate::secret::SecretUses;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use toml::Spanned;

/// A sheet as it is written.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct WrittenSheet {
    #[serde(default)]
    pub newer_run: NewerRun,
    #[serde(default)]
    pub values: BTreeMap<Spanned<String>, Scalar>,
    #[serde(default)]
    pub jobs: BTreeMap<Spanned<String>, WrittenJob>,
}

/// A job as it is written.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct WrittenJob {
    #[serde(default, rename = "where")]
    pub requirement: Option<Spanned<String>>,
    #[serde(default)]
    pub commands: Option<Spanned<Vec<String>>>,
    #[serde(default)]
    pub script: Option<Spanned<String>>,
    #[serde(default)]
    pub after: Vec<Spanned<WrittenNeed>>,
    #[serde(default)]
    pub vary: BTreeMap<Spanned<String>, Spanned<WrittenVariation>>,
    #[serde(default)]
    pub applies: Option<Spanned<String>>,
    #[serde(default)]
    pub time_limit: Option<Spanned<String>>,
    #[serde(default)]
    pub give_up: Option<Spanned<String>>,
    #[serde(default)]
    pub band: Band,
    #[serde(default)]
    pub seats: BTreeMap<String, u32>,
    #[serde(default)]
    pub variables: BTreeMap<String, Scalar>,
    #[serde(default)]
    pub secrets: SecretUses,
    #[serde(default)]
    pub workspace: WorkspaceUse,
    #[serde(default)]
    pub on_failure: OnFailure,
    #[serde(default)]
    pub tries: Option<Spanned<u32>>,
    #[serde(default)]
    pub hold: Option<Hold>,
    #[serde(default)]
    pub fail_unmatched: bool,
}

/// A job that another waits for, as it is written.
#[derive(Debug, Deserialize)]
#[serde(
    untagged,
    expecting = "write a job's name, or { job = NAME, success = false }"
)]
pub(super) enum WrittenNeed {
    Name(String),
    Table(NeedTable),
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct NeedTable {
    pub job: String,
    #[serde(default = "yes")]
    pub success: bool,
}

fn yes() -> bool {
    true
}

/// The values of one name of `vary`, or whole combinations under `without` and `also`.
#[derive(Debug, Deserialize)]
#[serde(
    untagged,
    expecting = "write a list of values; or, for without and also, a list of tables"
)]
pub(super) enum WrittenVariation {
    Values(Vec<Scalar>),
    Combinations(Vec<BTreeMap<String, Scalar>>),
}

/// A value as it is written: text, a number, or true or false.
#[derive(Clone, PartialEq, Debug, Deserialize)]
#[serde(untagged, expecting = "write text, a number, true or false")]
pub enum Scalar {
    Text(String),
    Whole(i64),
    Number(f64),
    Truth(bool),
}

impl fmt::Display for Scalar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scalar::Text(text) => f.write_str(text),
            Scalar::Whole(number) => number.fmt(f),
            Scalar::Number(number) => number.fmt(f),
            Scalar::Truth(truth) => truth.fmt(f),
        }
    }
}

/// Whether a job begins with an empty folder.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WorkspaceUse {
    /// Empty.
    #[default]
    Fresh,
    /// As the project's job before it on the same runner left it, where there was one.
    Kept,
}

/// What a newer run of the same branch does to one that is not done.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NewerRun {
    /// Nothing: both go on.
    #[default]
    Leave,
    /// Its jobs are cancelled: it is overtaken.
    Cancel,
}

words!(NewerRun { Leave = "leave", Cancel = "cancel" });

/// What follows when a job fails.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnFailure {
    /// Jobs of the run that have not started are skipped.
    #[default]
    Stop,
    /// Only the jobs that need its success are skipped.
    Continue,
    /// It is tried again, up to its `tries`; then as `stop`.
    Retry,
}

words!(OnFailure { Stop = "stop", Continue = "continue", Retry = "retry" });

/// What a job waits for before it may be pending.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Hold {
    /// A person's release.
    Person,
}
