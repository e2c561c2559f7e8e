//! Readings of the queue: demand over capacity at one moment.

use crate::time::Micros;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One reading of the whole yard, for the skyline: demand over capacity.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct QueueSample {
    /// Jobs waiting for a runner.
    pub waiting: u32,
    /// Slots in use.
    pub executing: u32,
    /// Free slots of connected runners that take work.
    pub idle: u32,
    /// Slots of machines that are being made.
    pub coming: u32,
}

impl QueueSample {
    /// The sum of two readings of different parts of the yard.
    #[must_use]
    pub fn plus(&self, other: &QueueSample) -> QueueSample {
        QueueSample {
            waiting: self.waiting.saturating_add(other.waiting),
            executing: self.executing.saturating_add(other.executing),
            idle: self.idle.saturating_add(other.idle),
            coming: self.coming.saturating_add(other.coming),
        }
    }
}

/// A [`QueueSample`] over a step of time: the highest demand within it, and the capacity at that moment.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct LevelStep {
    /// How long before the window's end the step begins, in microseconds.
    pub ago_us: Micros,
    /// The reading.
    #[serde(flatten)]
    pub level: QueueSample,
}
