//! Teams and projects: the tree.

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
    /// The path of the team to which it moves, with everything below it; empty for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
}

/// Tells null from what is not there.
fn given<'de, T: Deserialize<'de>, D: serde::Deserializer<'de>>(
    from: D,
) -> Result<Option<Option<T>>, D::Error> {
    Option::<T>::deserialize(from).map(Some)
}
