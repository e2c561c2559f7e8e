//! Jobs that are over, as CSV.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What was imported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportSummary {
    /// How many jobs were added.
    pub jobs: u64,
    /// How many jobs of the file were on record already, and were skipped.
    pub on_record: u64,
    /// When the first job of the file became ready, and when the last did.
    pub first: Moment,
    pub last: Moment,
}
