//! Alerts: what somebody should be told of.

use pennine_core::alert::{AlertKind, Thresholds};
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::{Micros, Moment};
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
    pub remedy: String,
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
    pub message: String,
    pub about: AlertAbout,
    /// Since when it is so.
    pub since: Moment,
    /// When people were told.
    pub raised_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    /// Who has said that they look at it, and when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub acknowledged_by: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub acknowledged_at: Option<Moment>,
}

/// From when on an alert is raised, where it is not raised at once.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AlertThresholds {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    #[serde(flatten)]
    pub thresholds: Thresholds,
}

/// What to change of the thresholds from which on people are told. What is not given stays.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ThresholdsChange {
    /// How long jobs wait for what no runner is and no pool could make: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_match_us: Option<Micros>,
    /// How long a supplier fails: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub supplier_us: Option<Micros>,
    /// How long jobs wait while a pool has as many machines as it may: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ceiling_us: Option<Micros>,
    /// How long runners have had no job: an hour to a year.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle_us: Option<Micros>,
    /// Which part of its budget a pool has spent, in percent: 1 to 100.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub budget_percent: Option<u32>,
}

impl ThresholdsChange {
    /// Whether it changes nothing.
    pub fn is_empty(&self) -> bool {
        let times = [
            self.no_match_us,
            self.supplier_us,
            self.ceiling_us,
            self.idle_us,
        ];
        times.iter().all(Option::is_none) && self.budget_percent.is_none()
    }

    /// What holds with it.
    pub fn over(&self, before: Thresholds) -> Thresholds {
        Thresholds {
            no_match_us: self.no_match_us.unwrap_or(before.no_match_us),
            supplier_us: self.supplier_us.unwrap_or(before.supplier_us),
            ceiling_us: self.ceiling_us.unwrap_or(before.ceiling_us),
            idle_us: self.idle_us.unwrap_or(before.idle_us),
            budget_percent: self.budget_percent.unwrap_or(before.budget_percent),
        }
    }
}

impl From<Thresholds> for ThresholdsChange {
    fn from(all: Thresholds) -> Self {
        ThresholdsChange {
            no_match_us: Some(all.no_match_us),
            supplier_us: Some(all.supplier_us),
            ceiling_us: Some(all.ceiling_us),
            idle_us: Some(all.idle_us),
            budget_percent: Some(all.budget_percent),
        }
    }
}
