//! What goes wrong in the cloud.

use serde::{Deserialize, Serialize};

/// What goes wrong, set while it runs. Fractions are from 0 to 1.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Faults {
    /// Every request is refused.
    pub down: bool,
    /// Every answer comes so many seconds late.
    pub answer_after_s: f64,
    /// So many orders are done, or not, and nobody learns which.
    pub answers_lost: f64,
    /// So many orders are refused.
    pub orders_fail: f64,
    /// So many machines take ten times as long to come up.
    pub boots_slow: f64,
    /// So many machines stop while they come up.
    pub boots_fail: f64,
    /// Sizes that are not available.
    pub out_of_stock: Vec<String>,
    /// The most requests in a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests_a_second: Option<u32>,
    /// Machines that are taken back in a minute, on average.
    pub reclaims_a_minute: f64,
    /// With so many seconds' notice.
    pub reclaim_notice_s: f64,
}
