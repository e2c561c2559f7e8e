//! The kinds of things that a yard file holds.

use serde::Serialize;

/// A kind of thing that a yard file holds.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    Team,
    Project,
    Seat,
    Supplier,
    Pool,
    Target,
    Alerts,
}

/// The name of what holds for all alerts.
pub const THRESHOLDS: &str = "thresholds";

impl Kind {
    pub fn word(self) -> &'static str {
        match self {
            Kind::Team => "team",
            Kind::Project => "project",
            Kind::Seat => "seat",
            Kind::Supplier => "supplier",
            Kind::Pool => "pool",
            Kind::Target => "target",
            Kind::Alerts => "alerts",
        }
    }
}
