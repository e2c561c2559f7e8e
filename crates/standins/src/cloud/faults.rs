//! Injected faults of the cloud.

use serde::{Deserialize, Serialize};

/// Injected faults, set at run time. Fractions are from 0 to 1.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Faults {
    /// Every request is refused.
    pub down: bool,
    /// The delay of every answer, in seconds.
    pub answer_after_s: f64,
    /// The share of orders whose outcome is not reported.
    pub answers_lost: f64,
    /// The share of refused orders.
    pub orders_fail: f64,
    /// The share of machines that take ten times as long to boot.
    pub boots_slow: f64,
    /// The share of machines that stop while booting.
    pub boots_fail: f64,
    /// Sizes that are not available.
    pub out_of_stock: Vec<String>,
    /// The most requests in a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests_a_second: Option<u32>,
    /// Machines that are taken back in a minute, on average.
    pub reclaims_a_minute: f64,
    /// The notice before a reclaim, in seconds.
    pub reclaim_notice_s: f64,
}
