//! Alerts.

use pennine_core::alert::{AlertKind, Thresholds};
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The names of the things that an alert concerns.
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
    /// The remedy.
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
    /// Whether it needs attention soon.
    pub urgent: bool,
    /// The message: one sentence.
    pub message: String,
    pub about: AlertAbout,
    /// Since when its condition holds.
    pub since: Moment,
    /// When it was raised.
    pub raised_at: Moment,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    /// Who acknowledged it, and when.
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

/// A change of the thresholds; omitted fields stay unchanged.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ThresholdsChange {
    /// How long jobs wait for a requirement that no runner and no pool can satisfy: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_match_us: Option<Micros>,
    /// How long a supplier fails: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub supplier_us: Option<Micros>,
    /// How long jobs wait while a pool is at its ceiling: at most a week.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ceiling_us: Option<Micros>,
    /// How long runners have had no job: an hour to a year.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle_us: Option<Micros>,
    /// The spent part of a pool's budget, in percent: 1 to 100.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub budget_percent: Option<u32>,
}

impl ThresholdsChange {
    /// Whether no field is set.
    pub fn is_empty(&self) -> bool {
        let times = [
            self.no_match_us,
            self.supplier_us,
            self.ceiling_us,
            self.idle_us,
        ];
        times.iter().all(Option::is_none) && self.budget_percent.is_none()
    }

    /// Returns the thresholds after the change.
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
