//! The queue, grouped by why jobs wait.

use pennine_core::dispatch::{Band, EligibilityCounts, Reason, Remedy, SeatNeeds};
use pennine_core::requirement::Hint;
use pennine_core::time::Micros;
use pennine_core::trust::Trust;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The queue, or the part of it that was asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Queue {
    /// Jobs that wait.
    pub waiting: u64,
    /// The waiting jobs by reason and by what is missing; what needs a person first, then the longest wait.
    pub groups: Vec<QueueGroup>,
    /// Further groups that are not listed.
    #[serde(default)]
    pub more_groups: u64,
    /// Where one reason was asked for: send it as `after` to get its next strands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// Waiting jobs with one reason and one thing missing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueueGroup {
    pub reason: Reason,
    /// What is missing: the pools that could run the jobs, the seats, or the place with the limit. Empty where nothing in
    /// particular is.
    #[serde(default)]
    pub cause: String,
    /// The reason in a few words.
    pub message: String,
    /// Whether it goes on until a person does something.
    pub needs_a_person: bool,
    pub jobs: u64,
    pub longest_us: Micros,
    /// How many strands they are in.
    pub strand_count: u64,
    /// What a person can press for all of them.
    #[serde(default)]
    pub actions: Vec<RemedyAction>,
    /// The strands that are listed, the longest wait first.
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
    /// Whether their code is trusted.
    #[serde(default)]
    pub trust: Trust,
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
