//! Jobs that are over, as CSV.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What was imported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportSummary {
    /// How many jobs.
    pub jobs: u64,
    /// When the first of them became ready, and when the last did.
    pub first: Moment,
    pub last: Moment,
}
