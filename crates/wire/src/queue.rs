//! The queue, grouped by why jobs wait.

use pennine_core::dispatch::{Band, EligibilityCounts, Reason, Remedy, SeatNeeds};
use pennine_core::requirement::Hint;
use pennine_core::time::Micros;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The queue.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Queue {
    /// Jobs that wait.
    pub waiting: u64,
    /// The strands in which jobs wait, grouped by reason; what needs a person first, then the longest wait.
    pub groups: Vec<QueueGroup>,
}

/// Waiting jobs with one reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueueGroup {
    pub reason: Reason,
    /// The reason in a few words.
    pub message: String,
    /// Whether it goes on until a person does something.
    pub needs_a_person: bool,
    pub jobs: u64,
    pub longest_us: Micros,
    pub strands: Vec<QueueStrand>,
}

/// A remedy as an action: a request that a person can send by pressing a button.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RemedyAction {
    /// What it does, in a few words: `Resume fell-03`.
    pub message: String,
    /// What it will lead to, where that should be confirmed first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asks: Option<String>,
    /// The same on the command line.
    pub command: String,
    pub method: String,
    /// Below `/api/v1`.
    pub path: String,
    #[serde(default)]
    pub body: serde_json::Value,
}

/// Waiting jobs that are alike to the dispatcher.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueueStrand {
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub jobs: u64,
    pub longest_us: Micros,
    pub band: Band,
    /// The seats that each of them needs.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, u32>)]
    pub seats: SeatNeeds,
    /// The short name of the job at its head.
    pub first: String,
    /// The reason with its numbers.
    pub message: String,
    pub standing: EligibilityCounts,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<Remedy>,
    /// What a person can press.
    #[serde(default)]
    pub actions: Vec<RemedyAction>,
    #[serde(default)]
    pub hints: Vec<Hint>,
}
