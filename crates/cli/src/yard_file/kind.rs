//! The kinds of things that a yard file holds.

use serde::Serialize;

/// A kind of thing that a yard file holds.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ThingKind {
    Team,
    Project,
    Seat,
    Supplier,
    Pool,
    Target,
    Alerts,
    Token,
    Installation,
}

/// The name of what holds for all alerts.
pub const THRESHOLDS: &str = "thresholds";
/// The name of what holds for all teams.
pub const EVERYWHERE: &str = "settings";

impl ThingKind {
    pub fn word(self) -> &'static str {
        match self {
            ThingKind::Team => "team",
            ThingKind::Project => "project",
            ThingKind::Seat => "seat",
            ThingKind::Supplier => "supplier",
            ThingKind::Pool => "pool",
            ThingKind::Target => "target",
            ThingKind::Alerts => "alerts",
            ThingKind::Token => "token",
            ThingKind::Installation => "installation",
        }
    }
}
