//! Measures: trends, targets, alerts, listeners, history.

pub mod alert;
pub mod history;
pub mod listener;
pub mod metrics;
pub mod sums;
pub mod target;
pub mod target_standings;
mod trend_query;
pub mod trends;
