//! Logs, as people read them.

use pennine_core::id::AttemptId;
use pennine_core::size::ByteSize;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stretch of a log by lines.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogLines {
    /// The attempt whose log it is; none while no attempt was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attempt: Option<AttemptId>,
    /// The number of the first line here, counted from 0.
    pub first: u64,
    /// The lines, without their ends. Bytes that are not UTF-8 are replaced.
    pub lines: Vec<String>,
    /// How many lines there are so far. The last may still grow.
    pub total: u64,
    /// How many bytes there are so far.
    pub bytes: ByteSize,
    /// Whether the log is complete.
    pub complete: bool,
    /// Whether it was cut at its cap.
    pub capped: bool,
}

/// The response header that tells, with a stretch of a log by bytes, where the next stretch begins.
pub const NEXT_OFFSET: &str = "pennine-next-offset";
/// The response header that is there, and `true`, when the log is complete and this was its end.
pub const LOG_COMPLETE: &str = "pennine-log-complete";
/// The response header that tells which attempt's log it is.
pub const LOG_ATTEMPT: &str = "pennine-log-attempt";
