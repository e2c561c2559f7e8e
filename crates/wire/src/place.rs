//! Teams and projects: the tree.

use pennine_core::id::PlaceId;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a team from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTeam {
    /// Letters, digits, `-` and `_`; unique beside its siblings.
    pub name: String,
    /// The path of the team that it lies in; none for the root.
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
    pub id: PlaceId,
    /// Its name beside its siblings.
    pub name: String,
    /// Its names from the root down, joined with `/`.
    pub path: String,
    /// `team` or `project`.
    pub kind: String,
    pub created_at: Moment,
}
