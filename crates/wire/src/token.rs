//! Tokens, with which programs and people ask the service.

use pennine_core::access::{Purpose, Role};
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a token from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    pub name: String,
    pub role: Role,
    /// The path of the team or project where the role is valid, with everything below it; empty for the root.
    #[serde(default)]
    pub place: String,
    /// What the token is limited to, beside its role; nothing when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// How long it is valid, in microseconds; 90 days when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lifetime_us: Option<Micros>,
    /// Whether it is your own, as a person who is signed in: your own roles limit it at each moment,
    /// and its name begins with yours and a slash.
    #[serde(default)]
    pub is_own: bool,
}

/// A token, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Token {
    pub name: String,
    pub role: Role,
    /// The path of the place where the role is valid; empty for the root.
    pub place: String,
    /// What it is limited to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// The person whose own it is, who also limits what it permits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// `valid`, `expired` or `revoked`.
    pub state: String,
    pub created_at: Moment,
    pub created_by: String,
    /// Since when its present secret is valid.
    pub renewed_at: Moment,
    /// When it expires; never when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<Moment>,
    /// Until when the secret before the last rotation is valid, too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous_until: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked_by: Option<String>,
    /// When it was last used, to a minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_used_at: Option<Moment>,
    /// The address from which it was last used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_used_from: Option<String>,
}

/// A token that has just been made or rotated.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    pub token: Token,
    /// The secret; it is not shown again.
    pub secret: String,
}

/// What to change of a token. Its secret stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenChange {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// The path of the team or project where the role is valid, with everything below it; empty for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// What it is limited to, beside its role; null for nothing.
    #[serde(
        default,
        deserialize_with = "crate::place::given",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<Purpose>)]
    pub purpose: Option<Option<Purpose>>,
    /// How long it is valid since its last rotation, in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lifetime_us: Option<Micros>,
}

/// How to rotate a token: it gets another secret.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenRotation {
    /// How long the present secret stays valid, in microseconds; a day when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub overlap_us: Option<Micros>,
    /// How long the token is valid from now, in microseconds; as long as it was before when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lifetime_us: Option<Micros>,
}
