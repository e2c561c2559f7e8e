//! Listeners: where events are sent.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a listener from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewListener {
    pub name: String,
    /// Where events are sent: http:// or https://.
    pub url: String,
    /// The kinds of alerts that it hears of; all of them when none are given.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub kinds: Vec<String>,
}

/// What to change of a listener. What is not given stays. It is retried at once.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ListenerChange {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Empty for all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kinds: Option<Vec<String>>,
    /// Whether it is sent nothing for now. What happens meanwhile is sent afterwards, as far as it is on record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
}

/// A listener.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Listener {
    pub name: String,
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub url: String,
    pub kinds: Vec<String>,
    pub paused: bool,
    /// How many events it was sent, and when the last.
    pub sent: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sent_at: Option<Moment>,
    /// What is wrong, since when, how often it was tried, and when it is retried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<ListenerFailure>,
    /// Until when the secret before this one is signed with too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous_until: Option<Moment>,
    pub created_at: Moment,
    pub created_by: String,
}

/// Why a listener could not be sent an event.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ListenerFailure {
    pub message: String,
    pub since: Moment,
    pub tries: u32,
    pub retry_at: Moment,
}

/// A listener with its secret, which is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeListener {
    pub listener: Listener,
    /// With which events are signed as Standard Webhooks say: `whsec_` and base64.
    pub secret: String,
}

/// What came of an event that was sent to try a listener.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedListener {
    /// Whether it took the event.
    pub taken: bool,
    /// What it answered, or what went wrong.
    pub message: String,
}
