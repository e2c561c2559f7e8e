//! Teams and projects: the tree.

use pennine_core::dispatch::PoolAccess;
use pennine_core::id::PlaceId;
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a team from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTeam {
    /// Letters, digits, `-` and `_`; unique beside its siblings.
    pub name: String,
    /// The path of the team that it is in; none for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
}

/// What to make a project from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewProject {
    /// Letters, digits, `-` and `_`; unique beside its siblings.
    pub name: String,
    /// The path of its team.
    pub team: String,
}

/// A team or a project.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Place {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub id: PlaceId,
    /// Its name beside its siblings.
    pub name: String,
    /// Its names from the root down, joined with `/`.
    pub path: String,
    /// `team` or `project`.
    pub kind: String,
    pub created_at: Moment,
    /// Its share against its siblings'.
    pub weight: u32,
    /// The most slots that it may hold at once, with everything below it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// How long its jobs wait at most unless they say otherwise, in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub give_up_us: Option<Micros>,
    /// The only audiences for which its jobs may get identity tokens; any where there is none. Those of the places above it count
    /// as well.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub audiences: Vec<String>,
    /// Slots that it holds now.
    pub held: u32,
}

/// What to change of a team or a project. What is not given stays; null takes a limit or the patience away.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PlaceChange {
    /// 1 to 1000.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<u32>,
    /// Slots; 0 lets nothing start.
    #[serde(
        default,
        deserialize_with = "given",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<u32>)]
    pub limit: Option<Option<u32>>,
    #[serde(
        default,
        deserialize_with = "given",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<Micros>)]
    pub give_up_us: Option<Option<Micros>>,
    /// The only audiences for which its jobs may get identity tokens; an empty list allows any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audiences: Option<Vec<String>>,
    /// The path of the team to which it moves, with everything below it; empty for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
}

/// Tells null from what is not there.
pub(crate) fn given<'de, T: Deserialize<'de>, D: serde::Deserializer<'de>>(
    from: D,
) -> Result<Option<Option<T>>, D::Error> {
    Option::<T>::deserialize(from).map(Some)
}

/// A project, with the pools that it may use and the ones that it may not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProjectView {
    pub project: Place,
    /// The pools that its trusted jobs may use, or could after an approval.
    pub pools: Vec<ProjectPool>,
    /// The other pools that you see.
    pub out_of_reach: Vec<OtherPool>,
    /// Its jobs that wait, in all.
    pub waiting: u64,
}

/// A pool as a project sees it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProjectPool {
    pub pool: String,
    pub description: String,
    pub access: PoolAccess,
    /// The place by which the project may use it: the owner, or one that its reach names. Empty for the root.
    #[serde(default)]
    pub by: String,
    pub labels: Vec<String>,
    /// What its machines are, in a few words: `linux`, `x86-64`, `2-8 cores`.
    pub machines: Vec<String>,
    /// Slots of connected runners, and free ones among them.
    pub slots: u32,
    pub free: u32,
    /// Jobs of the project that wait and that the pool could run.
    pub waiting: u64,
    /// Whom to ask for an approval, where one is needed.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub ask: String,
}

/// A pool that a project may not use.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OtherPool {
    pub pool: String,
    pub description: String,
    pub labels: Vec<String>,
    /// Whom to ask.
    pub ask: String,
}
