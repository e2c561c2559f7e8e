//! Targets in a yard file.

use super::invalid::{FieldError, wrong};
use crate::view;
use pennine_core::measure::rank::PerMille;
use pennine_core::target::Objective;
use pennine_core::time::Micros;
use pennine_wire::{NewTarget, Target};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A target.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TargetEntry {
    /// Neither a pool nor a place: the waits of all jobs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// A team's or project's path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// `95 %`.
    pub share: String,
    pub within: String,
    pub days: u32,
}

impl TargetEntry {
    /// As the service has it.
    pub fn of(target: &Target) -> TargetEntry {
        TargetEntry {
            pool: target.pool.clone(),
            place: target.place.clone(),
            share: target.promise.share.to_string(),
            within: view::exact(target.promise.within_us),
            days: target.promise.days,
        }
    }

    /// Checked, and written in its usual form.
    pub fn settle(&mut self, name: &str) -> Result<(), FieldError> {
        let at = |field: &str| format!("target {name}: {field}");
        if self.pool.is_some() && self.place.is_some() {
            return Err(wrong(&at("place"), "use a pool or a place, not both"));
        }
        let share: PerMille =
            (self.share.parse()).map_err(|message| wrong(&at("share"), message))?;
        let within = view::time(&self.within).map_err(|message| wrong(&at("within"), message))?;
        self.share = share.to_string();
        self.within = view::exact(within.into());
        let promise = self.promise();
        (promise.check()).map_err(|error| wrong(&format!("target {name}"), error.to_string()))
    }

    /// What it promises. What was settled can be read.
    fn promise(&self) -> Objective {
        Objective {
            share: self.share.parse().unwrap_or_default(),
            within_us: Micros::from(view::time(&self.within).unwrap_or(Duration::ZERO)),
            days: self.days,
        }
    }

    /// As the service is asked for it.
    pub fn new_target(&self, name: &str) -> NewTarget {
        let promise = self.promise();
        NewTarget {
            name: name.to_owned(),
            pool: self.pool.clone(),
            place: self.place.clone(),
            share: promise.share,
            within_us: promise.within_us,
            days: promise.days,
        }
    }

    /// Whether it is about the same jobs.
    pub fn of_the_same(&self, other: &TargetEntry) -> bool {
        (&self.pool, &self.place) == (&other.pool, &other.place)
    }
}
