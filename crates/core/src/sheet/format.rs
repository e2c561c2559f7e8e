//! The keys of a job sheet, as they are written.

use crate::dispatch::Band;
use crate::lifecycle::words;
use crate::secret::SecretUses;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use toml::Spanned;
use utoipa::openapi::schema::{ObjectBuilder, SchemaType, Type};
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// A sheet as it is written.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(as = Sheet)]
pub(super) struct WrittenSheet {
    /// What a newer run of the same project and branch does to one of this sheet that is not done.
    #[serde(default)]
    pub newer_run: NewerRun,
    /// Names with values: each job gets them as environment variables, and {name} in where and applies is replaced.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, Scalar>)]
    pub values: BTreeMap<Spanned<String>, Scalar>,
    /// The jobs, by name.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, WrittenJob>)]
    pub jobs: BTreeMap<Spanned<String>, WrittenJob>,
}

/// A job as it is written.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(as = Job)]
pub(super) struct WrittenJob {
    /// The requirement: which runners can execute it.
    #[serde(default, rename = "where")]
    #[schema(value_type = Option<String>)]
    pub requirement: Option<Spanned<String>>,
    /// Lines for the shell; the first that fails ends the job.
    #[serde(default)]
    #[schema(value_type = Option<Vec<String>>)]
    pub commands: Option<Spanned<Vec<String>>>,
    /// A file of the project, instead of commands.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub script: Option<Spanned<String>>,
    /// The jobs that it waits for.
    #[serde(default)]
    #[schema(value_type = Vec<WrittenNeed>)]
    pub after: Vec<Spanned<WrittenNeed>>,
    /// Names with lists of values: one job for each combination. Combinations can be left out (without) and added (also).
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, WrittenVariation>)]
    pub vary: BTreeMap<Spanned<String>, Spanned<WrittenVariation>>,
    /// To which runs it belongs: an expression over branch, revision, event and the values.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub applies: Option<Spanned<String>>,
    /// How long it may run: 90s, 20m, 2h.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub time_limit: Option<Spanned<String>>,
    /// How long it waits for a runner at most: 20m, 2h, 3d.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub give_up: Option<Spanned<String>>,
    /// Its priority.
    #[serde(default)]
    pub band: Band,
    /// The seats that it takes while it runs, by name.
    #[serde(default)]
    pub seats: BTreeMap<String, u32>,
    /// Environment variables.
    #[serde(default)]
    pub variables: BTreeMap<String, Scalar>,
    /// The secrets that it is given, by name, and how.
    #[serde(default)]
    pub secrets: SecretUses,
    /// Whether it begins with an empty folder. Not implemented yet: every workspace is fresh.
    #[serde(default)]
    pub workspace: WorkspaceUse,
    /// What follows when it fails.
    #[serde(default)]
    pub on_failure: OnFailure,
    /// How many attempts it may have in all, with on_failure = "retry".
    #[serde(default)]
    #[schema(value_type = Option<u32>, minimum = 2, maximum = 10)]
    pub tries: Option<Spanned<u32>>,
    /// It waits until a person releases it.
    #[serde(default)]
    pub hold: Option<Hold>,
    /// It fails at once when no runner could ever execute it.
    #[serde(default)]
    pub fail_unmatched: bool,
}

/// A job that another waits for, as it is written.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(
    untagged,
    expecting = "write a job's name, or { job = NAME, success = false }"
)]
#[schema(as = Need)]
pub(super) enum WrittenNeed {
    Name(String),
    Table(NeedTable),
}

/// A job that another waits for, in full.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct NeedTable {
    /// Its name.
    pub job: String,
    /// Whether it has to end with success; its end is enough otherwise.
    #[serde(default = "yes")]
    pub success: bool,
}

fn yes() -> bool {
    true
}

/// The values of one name of `vary`, or whole combinations under `without` and `also`.
#[derive(Debug, Deserialize, ToSchema)]
#[schema(as = Variation)]
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

impl PartialSchema for Scalar {
    fn schema() -> RefOr<Schema> {
        // One type of three, rather than one of several types: a whole number is a number, too.
        let types = [Type::String, Type::Number, Type::Boolean];
        ObjectBuilder::new()
            .schema_type(SchemaType::from_iter(types))
            .into()
    }
}

impl ToSchema for Scalar {}

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
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum WorkspaceUse {
    /// Empty.
    #[default]
    Fresh,
    /// As the project's job before it on the same runner left it, where there was one.
    Kept,
}

/// What a newer run of the same branch does to one that is not done.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
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
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
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
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub(super) enum Hold {
    /// A person's release.
    Person,
}
