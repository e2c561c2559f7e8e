//! The thresholds of alerts in the yard file.

use super::invalid::{FieldError, same_time, wrong};
use crate::view;
use pennine_core::alert::Thresholds;
use pennine_core::time::Micros;
use pennine_wire::ThresholdsChange;
use serde::{Deserialize, Serialize};

/// The thresholds of alerts that are not raised at once.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AlertsEntry {
    pub no_match: String,
    pub supplier: String,
    pub ceiling: String,
    pub idle: String,
    /// In percent.
    pub budget: u32,
}

impl Default for AlertsEntry {
    fn default() -> Self {
        AlertsEntry::of(&Thresholds::default())
    }
}

impl AlertsEntry {
    /// What the service has.
    pub fn of(thresholds: &Thresholds) -> AlertsEntry {
        AlertsEntry {
            no_match: view::exact(thresholds.no_match_us),
            supplier: view::exact(thresholds.supplier_us),
            ceiling: view::exact(thresholds.ceiling_us),
            idle: view::exact(thresholds.idle_us),
            budget: thresholds.budget_percent,
        }
    }

    /// As the service takes it; what is no length of time is as it usually is.
    pub fn change(&self) -> ThresholdsChange {
        let time = |text: &String| view::time(text).ok().map(Micros::from);
        ThresholdsChange {
            no_match_us: time(&self.no_match),
            supplier_us: time(&self.supplier),
            ceiling_us: time(&self.ceiling),
            idle_us: time(&self.idle),
            budget_percent: Some(self.budget),
        }
    }

    /// Brings it into the form in which it is compared, or says what is wrong.
    pub fn settle(&mut self) -> Result<(), FieldError> {
        for (key, text) in [
            ("no_match", &mut self.no_match),
            ("supplier", &mut self.supplier),
            ("ceiling", &mut self.ceiling),
            ("idle", &mut self.idle),
        ] {
            same_time(&format!("alerts: {key}"), text)?;
        }
        let wanted = self.change().over(Thresholds::default());
        wanted.check().map_err(|(key, message)| {
            let key = key.trim_end_matches("_us").trim_end_matches("_percent");
            wrong(&format!("alerts: {key}"), message.to_owned())
        })
    }
}
