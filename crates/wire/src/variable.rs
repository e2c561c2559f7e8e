//! Environment variables of the jobs of a place.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A variable, in the open. The jobs of the place and of the places below get it, unless a nearer place, the runner or the
/// job itself has one of the same name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlaceVariable {
    /// The place's path; empty for the root.
    pub place: String,
    pub name: String,
    pub value: String,
    pub set_at: Moment,
    pub set_by: String,
}

/// Sets a variable of a place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPlaceVariable {
    /// The path of a team or project; empty for the root.
    #[serde(default)]
    pub place: String,
    /// Letters, digits and `_`, not beginning with a digit.
    pub name: String,
    pub value: String,
}

/// Removes a variable of a place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PlaceVariableRemoval {
    /// The path of a team or project; empty for the root.
    #[serde(default)]
    pub place: String,
    pub name: String,
}
