//! The audit log.

use pennine_core::access::ActorKind;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An action on record: a change, a sign-in or a refusal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    pub id: i64,
    pub at: Moment,
    /// Who did it: a person, a token, a runner, or the service; empty for a client that was not signed in.
    pub who: String,
    pub who_kind: ActorKind,
    /// The address of the request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The id of the request, as it stands in the service's log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
    /// The path of the place where it was allowed; empty for the root.
    pub place: String,
    /// What was done: `pool.change`.
    pub what: String,
    /// What it was done to, by name.
    pub subject: String,
    /// What is worth knowing besides, such as the values before and after.
    pub detail: serde_json::Value,
}
