//! Whether the machines that run a job have the right size, from what its last attempts used.

use super::job::{self, stored_size};
use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::size::ByteSize;
use pennine_core::sizing::{AttemptUsage, FEWEST, JobUsage};
use pennine_store::job::{UsageRow, recent_usage};
use pennine_wire::JobSizing;

/// The attempts that figures are from, at most.
const MOST_ATTEMPTS: i64 = 20;

fn cores(facts: &Facts) -> Option<u64> {
    match facts.get("cores")? {
        FactValue::Count(count) => Some(*count),
        FactValue::Text(_) => None,
    }
}

fn memory(facts: &Facts) -> Option<ByteSize> {
    match facts.get("mem")? {
        FactValue::Text(text) => text.parse().ok(),
        FactValue::Count(_) => None,
    }
}

fn usage(row: &UsageRow) -> AttemptUsage {
    let facts = row.facts.as_ref().map(|facts| &facts.0);
    AttemptUsage {
        ran: row.exited_at.0.since(row.started_at.0).into(),
        processor: row.processor_us.0,
        peak_memory: stored_size(row.peak_memory),
        bytes_read: row.bytes_read.map(stored_size),
        bytes_written: row.bytes_written.map(stored_size),
        cores: facts.and_then(cores),
        memory: facts.and_then(memory),
    }
}

/// What the last attempts of a job and of earlier ones like it used, and what follows for its machine and its time limit.
///
/// # Errors
/// Unknown where the job is not visible.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<JobSizing> {
    let mut connection = app.store.people().await?;
    let row = job::find(&mut connection, who, text).await?;
    let (project, title) = (row.project.clone(), row.title.clone());
    let (number, limit) = (row.number, MOST_ATTEMPTS);
    let rows = recent_usage(&mut connection, &project, &title, number, limit).await?;
    let job = job::whole(&mut connection, row, app.clock.now()).await?;
    let attempts: Vec<AttemptUsage> = rows.iter().map(usage).collect();
    let figures = JobUsage::of(&attempts);
    let message = figures.as_ref().map_or_else(
        || {
            let (count, verb) = match attempts.len() {
                1 => ("1 successful attempt".to_owned(), "is"),
                several => (format!("{several} successful attempts"), "are"),
            };
            format!("{count} of {project} with the title {title:?} {verb} on record; figures need at least {FEWEST}.")
        },
        JobUsage::message,
    );
    let advice = figures
        .as_ref()
        .map(|usage| usage.advice(job.time_limit_us));
    Ok(JobSizing {
        job: job.line.name,
        attempts: attempts.len(),
        message,
        usage: figures,
        advice: advice.unwrap_or_default(),
    })
}
