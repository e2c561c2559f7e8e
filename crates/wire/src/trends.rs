//! How long jobs waited, for what, how busy machines were, and what it cost.

use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::WindowFigures;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What figures are grouped by.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum By {
    Pool,
    Team,
    Project,
    /// A job's requirement.
    Requirement,
    /// A job's title, in which each number reads `#`.
    Title,
    Runner,
    Supplier,
    /// What machines were made from.
    Image,
}

impl std::str::FromStr for By {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        serde_json::from_value(text.into()).map_err(|_| {
            format!("{text:?} is none of pool, team, project, requirement, title, runner, supplier, image")
        })
    }
}

/// Figures of a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trends {
    /// What was found, as a sentence or two.
    pub answer: String,
    /// The window, widened to whole five minutes (to whole hours where five minutes are not kept any more).
    pub from: Moment,
    pub until: Moment,
    /// Everything that was over by then is counted. What goes on counts up to now.
    pub counted_until: Moment,
    /// All that was asked for.
    pub whole: WindowFigures,
    /// The same, of the window of the same length before this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<WindowFigures>,
    /// The groups, those with the longest total wait first.
    pub groups: Vec<TrendGroup>,
    /// How long each step is.
    pub step_us: Micros,
    /// The window step by step.
    pub steps: Vec<TrendStep>,
}

/// A group of figures.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrendGroup {
    pub name: String,
    pub figures: WindowFigures,
}

/// One step of a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrendStep {
    pub at: Moment,
    pub figures: WindowFigures,
}

/// An hour of the week, over a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WeekHour {
    /// 0 is Monday.
    pub day: u8,
    /// 0 to 23.
    pub hour: u8,
    pub figures: WindowFigures,
}

/// The hours of the week over a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WeekPattern {
    /// The time zone whose hours these are.
    pub zone: String,
    pub from: Moment,
    pub until: Moment,
    /// Each hour of the week of which something is known.
    pub hours: Vec<WeekHour>,
}

/// A wait behind a figure.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LongestWait {
    /// The job's short name.
    pub job: String,
    pub title: String,
    pub project: String,
    #[serde(rename = "where")]
    pub requirement: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    pub ready_at: Moment,
    /// Where its command started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_at: Option<Moment>,
    /// None while it goes on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<Outcome>,
    /// How long it waited.
    pub wait_us: Micros,
    /// What it waited for, the longest part first.
    pub parts: Vec<WaitPart>,
    pub processor_us: Micros,
    pub peak_memory: ByteSize,
}

/// A part of a wait.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct WaitPart {
    pub reason: Reason,
    pub wait_us: Micros,
}
