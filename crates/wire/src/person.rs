//! People: their accounts, and the roles that they have at places.

use pennine_core::access::{Grant, Role};
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// What the person signs in with.
    pub name: String,
    pub full_name: String,
    /// `invited` until a password is set, `active`, or `disabled`.
    pub state: String,
    /// The roles of the person alone that you may see, with the place of each.
    pub grants: Vec<Grant>,
    /// The person's groups at the OpenID provider, as of the last sign-in; they may have further roles.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// The roles of these groups that you may see.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub group_grants: Vec<Grant>,
    pub has_second_factor: bool,
    /// Who the person is at the OpenID provider: its address and its name for the person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    pub created_at: Moment,
    pub created_by: String,
    /// When the person last signed in with the password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed_in_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled_by: Option<String>,
}

/// What to make an account from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPerson {
    /// What the person signs in with: letters, digits, `-`, `_` and `.`; capitals do not matter.
    pub name: String,
    #[serde(default)]
    pub full_name: String,
    /// The role to begin with; more can be granted.
    pub role: Role,
    /// The path of the team or project where the role is valid, with everything below it; empty for the root.
    #[serde(default)]
    pub place: String,
}

/// What to change of an account.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonChange {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub full_name: Option<String>,
    /// Disables the account, or enables it again. What a disabled person did stays on record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled: Option<bool>,
    /// Who the person is at the OpenID provider: its name for the person (`sub`). Empty takes that away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
}

/// An account with a link with which its person sets a password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeLink {
    pub person: Person,
    /// The link; it is not shown again, and works once.
    pub link: String,
    pub expires_at: Moment,
}

/// Asks for a one-time link with which a person sets another password.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLink {
    /// Whether it removes the second factor, for a person who has lost it.
    #[serde(default)]
    pub removes_second_factor: bool,
}

/// The place where a person no longer has a role.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GrantRemoval {
    /// The place's path; empty for the root.
    pub place: String,
}

/// Whether a person may do something at a place, and by which grant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Permission {
    pub is_allowed: bool,
    /// The grant by which it is allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grant: Option<Grant>,
    /// In one sentence.
    pub message: String,
}

/// A role of the people in a group of the OpenID provider.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupGrant {
    /// The group's name at the provider.
    pub group: String,
    pub role: Role,
    /// The place's path; empty for the root.
    pub place: String,
    pub granted_at: Moment,
    pub granted_by: String,
}

/// Grants a role to a group of the OpenID provider, in place of the one that it has at the same place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewGroupGrant {
    /// The group's name at the provider, as it is written there.
    pub group: String,
    pub role: Role,
    /// The path of a team or project; empty for the root.
    #[serde(default)]
    pub place: String,
}

/// Takes the role of a group at a place away.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GroupGrantRemoval {
    pub group: String,
    /// The path of a team or project; empty for the root.
    #[serde(default)]
    pub place: String,
}
