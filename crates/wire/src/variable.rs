//! Environment variables of the jobs of a place or of a pool.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A variable, in the open. The jobs of the place and of the places below, or the jobs that run in the pool, get it, unless a nearer
/// place, the pool, the runner or the job itself has one of the same name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Variable {
    /// The path of its place, or of the place that owns its pool; empty for the root.
    pub place: String,
    /// The pool in which jobs get it, where it is a pool's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    pub name: String,
    pub value: String,
    pub set_at: Moment,
    pub set_by: String,
}

/// Sets a variable of a place or of a pool.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewVariable {
    /// The path of a team or project; empty for the root, or with a pool.
    #[serde(default)]
    pub place: String,
    /// A pool, whose jobs get it, instead of a place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// Letters, digits and `_`, not beginning with a digit.
    pub name: String,
    pub value: String,
}

/// Removes a variable of a place or of a pool.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VariableRemoval {
    /// The path of a team or project; empty for the root, or with a pool.
    #[serde(default)]
    pub place: String,
    /// A pool, whose jobs get it, instead of a place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    pub name: String,
}
