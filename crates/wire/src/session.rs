//! Signing in at the console.

use pennine_core::access::Role;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A token to sign in with. The answer sets an HttpOnly cookie.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    pub token: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The token's name.
    pub name: String,
    /// What it may do.
    pub role: Role,
    /// The path of the team or project where it may do that, with everything below; empty for the whole installation.
    #[serde(default)]
    pub place: String,
    /// The installation's name.
    pub installation: String,
    /// The code of the currency of all amounts (ISO 4217); empty where none is set.
    #[serde(default)]
    pub currency: String,
    /// The version of the service.
    pub version: String,
    /// When the session ends, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
}
