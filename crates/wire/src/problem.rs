//! Errors on the wire: RFC 9457 problem details.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong, where, and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A stable word for the kind of error, as a relative reference: `/problems/unknown-project`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind of error in a few words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened this time.
    pub detail: String,
    /// The request's id, which the service's log also holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instance: Option<String>,
    /// The field at fault, as a JSON path, a query parameter or a header.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The column in that field, counted from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// For a log that was sent with a gap: the offset at which to go on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_offset: Option<u64>,
    /// For a change of something that has changed since it was read: the version that it has now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
}

impl Problem {
    /// The last part of `type`, by which programs tell kinds apart.
    pub fn word(&self) -> &str {
        self.kind.rsplit('/').next().unwrap_or_default()
    }
}
