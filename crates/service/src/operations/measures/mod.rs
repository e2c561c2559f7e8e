//! Measures: trends, targets, alerts, listeners, history.

pub mod alert;
pub mod history;
pub mod listener;
pub mod target;
