//! Alerts: what somebody should be told of.

use pennine_core::alert::AlertKind;
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The things that an alert is about, by their names.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct AlertAbout {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// A team's or a project's path.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub supplier: Option<String>,
    /// The job that has waited longest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
    /// What to do about it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub mend: String,
}

/// An alert.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Alert {
    /// Its short name: `a-12`.
    pub name: String,
    pub kind: AlertKind,
    pub state: AlertState,
    /// Whether somebody is to look at it soon.
    pub urgent: bool,
    /// What is so, as one sentence.
    pub said: String,
    pub about: AlertAbout,
    /// Since when it is so.
    pub since: Moment,
    /// When people were told.
    pub raised_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    /// Who has said that they look at it, and when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_by: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_at: Option<Moment>,
}
