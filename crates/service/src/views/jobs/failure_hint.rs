//! What to do about a job that failed because a program was not found.

use super::job;
use super::logs::{self, ByteParams};
use super::requirement::try_out;
use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::missing_program::{fact_of, missing_program};
use pennine_wire::{Job, NewTrial};

/// How much of a log's end is read.
const TAIL: u64 = 4096;

/// One job, by id or short name, with what to do about its failure where its log tells.
///
/// # Errors
/// Unknown where it is not visible.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<Job> {
    let mut job = job::show(app, who, text).await?;
    job.hint = hint(app, who, &job).await?;
    Ok(job)
}

/// Says which program a failed job did not find, and how many of the runners that it may use have it. None where its log does not say so.
///
/// # Errors
/// Where the database does not answer.
async fn hint(app: &App, who: &Principal, job: &Job) -> Result<Option<String>> {
    let Some(attempt) = job.attempts.last() else {
        return Ok(None);
    };
    if job.line.result != Some(Outcome::Failure) || attempt.log_bytes.0 == 0 {
        return Ok(None);
    }
    let from = attempt.log_bytes.0.saturating_sub(TAIL);
    let params = ByteParams {
        from: i64::try_from(from).ok(),
        attempt: i32::try_from(attempt.number).ok(),
        ..ByteParams::default()
    };
    // A log that has expired, or that this person may not read, says nothing.
    let Ok(end) = logs::bytes(app, who, &job.line.name, params).await else {
        return Ok(None);
    };
    let Some(program) = missing_program(&String::from_utf8_lossy(&end.bytes)) else {
        return Ok(None);
    };
    let fact = fact_of(&program);
    let trial = NewTrial {
        requirement: format!("has {fact}"),
        project: Some(job.line.project.clone()),
    };
    // A program with a name that is no fact's.
    let Ok(trial) = try_out(app, who, trial).await else {
        return Ok(None);
    };
    let (with, all) = (trial.standing.satisfying, trial.explanation.runners);
    let runner = &attempt.runner;
    Ok(Some(match with {
        0 => format!(
            "{program} was not found on {runner}, and no runner reports it. Install it there, or name it in the probes.toml of the runners that have it."
        ),
        with => format!(
            "{program} was not found on {runner}. {with} of {all} runners report it: add \"has {fact}\" to the job's requirement."
        ),
    }))
}
