//! Signing in at the console, and what a person changes of their own account.

use crate::person::Person;
use pennine_core::access::{Grant, Purpose};
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// What to sign in with: a token, or a person's name and password. The answer sets an HttpOnly cookie.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// The code of the second factor, or a recovery code, where the account has a second factor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The token's name, or the person's.
    pub name: String,
    /// The person's name for others; empty for a token.
    #[serde(default)]
    pub full_name: String,
    /// Whether it is a person; a token otherwise.
    #[serde(default)]
    pub is_person: bool,
    /// The roles, with the place of each; each is valid there and below.
    pub grants: Vec<Grant>,
    /// What the token is limited to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
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

/// A one-time link that is asked about.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LinkQuestion {
    /// The part of the link after `#`.
    pub link: String,
}

/// Whose a one-time link is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LinkOwner {
    pub name: String,
    pub full_name: String,
    /// The installation's name.
    pub installation: String,
    pub expires_at: Moment,
    /// Whether the account has a second factor, which this link does not remove: a code is needed, too.
    pub needs_code: bool,
}

/// Sets a password with a one-time link and signs in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LinkUse {
    pub link: String,
    pub password: String,
    /// The code of the second factor, where the link's answer says that it is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// A person's own account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Account {
    pub person: Person,
    /// Whether the person can sign in with a password; a person of the OpenID provider may have none.
    pub has_password: bool,
    /// Recovery codes that were not used yet.
    pub recovery_codes: u32,
    /// The sign-ins that are valid, the one used last first.
    pub sessions: Vec<Session>,
}

/// A sign-in of a person at the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    pub id: Uuid,
    /// Whether it is the one that asks.
    pub is_this: bool,
    pub created_at: Moment,
    pub expires_at: Moment,
    /// The address from which it began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// What the browser called itself.
    pub user_agent: String,
    /// When it was last used, to a minute.
    pub last_used_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_used_from: Option<String>,
}

/// Another password. All other sign-ins of the person end.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    /// The present password.
    pub present: String,
    /// The new one: 12 to 256 characters, and none of the most common.
    pub new: String,
}

/// The person's password, once more, for what a thief of a session must not change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordProof {
    pub password: String,
}

/// A second factor that is not confirmed yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSecondFactor {
    /// The secret in Base32, to type into an authenticator (RFC 6238: SHA-1, six digits, 30 s).
    pub secret: String,
    /// The `otpauth` address that authenticators read from a QR code.
    pub address: String,
}

/// Confirms a second factor with its first code.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SecondFactorCode {
    pub code: String,
}

/// Codes that stand in for the second factor, each once. They are not shown again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    pub codes: Vec<String>,
}

/// How one can sign in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInOptions {
    pub installation: String,
    /// What the OpenID provider is called, where one is configured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub provider: Option<String>,
}
