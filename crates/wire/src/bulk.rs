//! Many jobs at once.

use pennine_core::dispatch::{Band, Reason};
use pennine_core::lifecycle::bulk::BulkState;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to do with many waiting or ended jobs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkAction {
    pub action: Action,
    /// Only jobs that wait for this reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// Only jobs for which this is missing, as the queue names it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<String>,
    /// Only jobs of this project: its path, or its name if that is unique.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// Only jobs of this team and the teams below it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Only jobs with this requirement, in whatever way it is written.
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    pub requirement: Option<String>,
    /// Only these jobs, by short name or id.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub jobs: Vec<String>,
    /// Only show how many jobs would be affected.
    #[serde(default)]
    pub preview: bool,
}

/// What to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Cancel jobs that wait.
    Cancel,
    /// Retry jobs that ended without success. One that was retried before is passed over, unless it is named.
    Retry,
    /// Move jobs that wait to the urgent band.
    Urgent,
    /// Move jobs that wait to the normal band.
    Normal,
    /// Move jobs that wait to the background band.
    Background,
}

impl Action {
    /// The band to which it moves jobs, if it does.
    pub fn band(self) -> Option<Band> {
        match self {
            Action::Urgent => Some(Band::Urgent),
            Action::Normal => Some(Band::Normal),
            Action::Background => Some(Band::Background),
            Action::Cancel | Action::Retry => None,
        }
    }
}

/// What was done.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BulkResult {
    /// Jobs that the filter found.
    pub found: u64,
    /// Jobs of these that were changed; none when it was only a preview.
    pub changed: u64,
    /// The first of them, by short name; of a retry, the new ones.
    pub jobs: Vec<String>,
    /// Where there are more than one request changes: the action that goes on in the background, by its short name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub background: Option<String>,
}

/// An action on many jobs that goes on in the background, or has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BulkProgress {
    /// Its short name.
    pub name: String,
    /// What was asked for.
    pub request: BulkAction,
    pub state: BulkState,
    pub by: String,
    pub created_at: Moment,
    /// Jobs that it means; none while they are being looked up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<u64>,
    /// Jobs that it has handled.
    pub handled: u64,
    /// Jobs of these that it has changed: the others had started or ended before.
    pub changed: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}
