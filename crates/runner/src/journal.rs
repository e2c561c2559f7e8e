//! What has to be known of an attempt so that another life of this program can report it: a small file beside its log.
//! Written when the command has started and again when it has ended, so that a runner that is killed, or restarted while
//! the service is away, still delivers log and result.

use crate::system::clock::BootMark;
use pennine_core::id::LeaseToken;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::phase::Phases;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_wire::runner_protocol::LossCause;
use serde::{Deserialize, Serialize};

/// An attempt as it is written down.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Journal {
    pub lease: LeaseToken,
    /// The job's short name.
    pub job: String,
    /// When the command was started, if it was.
    pub started: Option<BootMark>,
    /// How it ended; nothing while it runs.
    pub end: Option<RecordedEnd>,
}

/// How an attempt ended.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub enum RecordedEnd {
    /// With a result of its own.
    Result(RecordedResult),
    /// Without a result.
    Lost(LossCause),
}

/// What is reported of an attempt that has a result.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RecordedResult {
    pub result: Outcome,
    pub exit_code: Option<i32>,
    pub message: Option<String>,
    pub exited: BootMark,
    pub processor: Option<Micros>,
    pub peak_memory: Option<ByteSize>,
    #[serde(default)]
    pub bytes_read: Option<ByteSize>,
    #[serde(default)]
    pub bytes_written: Option<ByteSize>,
    pub log_capped: bool,
    #[serde(default)]
    pub phases: Phases,
}
