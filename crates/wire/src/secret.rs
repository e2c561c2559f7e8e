//! Secrets of the jobs of a place or of a pool.

use pennine_core::secret::SecretText;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret, without its value, which nothing shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Secret {
    /// The path of its place, or of the place that owns its pool; empty for the root.
    pub place: String,
    /// The pool in which jobs get it, where it is a pool's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    pub name: String,
    /// 1 at first, and one more each time that it is set.
    pub version: u32,
    /// What the outside store calls it, where it is kept there and not here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// The pools that may receive it; any where there is none.
    #[serde(default)]
    pub pools: Vec<String>,
    pub set_at: Moment,
    pub set_by: String,
    /// When a job received it last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used_at: Option<Moment>,
}

/// Sets a secret of a place or of a pool. Give a value, or the reference of a secret in the outside store.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSecret {
    /// The path of a team or project; empty for the root, or with a pool.
    #[serde(default)]
    pub place: String,
    /// A pool, whose jobs get it, instead of a place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// Letters, digits and `_`, not beginning with a digit: the name of the environment variable as well.
    pub name: String,
    /// 1 byte to 64 KiB.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<SecretText>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// The only pools that may receive it; any where there is none.
    #[serde(default)]
    pub pools: Vec<String>,
}

/// Removes a secret of a place or of a pool.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SecretRemoval {
    /// The path of a team or project; empty for the root, or with a pool.
    #[serde(default)]
    pub place: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    pub name: String,
}
