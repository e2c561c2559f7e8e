//! A job beside another, or beside the median of the earlier ones like it: what took longer.

use super::job;
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_core::comparison::{Parts, compare, describe};
use pennine_core::lifecycle::job::JobState;
use pennine_core::time::{Micros, Moment};
use pennine_store::job::similar;
use pennine_wire::{Attempt, Comparison, Job};
use serde::Deserialize;
use utoipa::IntoParams;

/// The earlier jobs whose median is taken, at most.
const MOST_SIMILAR: i64 = 20;

/// What to compare a job with.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct ComparisonParams {
    /// Another job, by id or short name. Without one: the median of the last 20 earlier jobs of the same project and title that have
    /// succeeded.
    with: Option<String>,
}

/// The part of a time between two moments, as far as both are known.
fn between(from: Option<Moment>, until: Option<Moment>) -> Option<Micros> {
    let (from, until) = from.zip(until)?;
    (until > from).then(|| until.since(from).into())
}

/// The parts of an attempt after its wait.
fn of_attempt(job: &Job, attempt: &Attempt, parts: &mut Parts) {
    let mut add = |part: &str, length: Option<Micros>| {
        parts.extend(length.map(|length| (part.to_owned(), length)));
    };
    let Some(ran) = between(
        attempt.started_at,
        attempt.exited_at.or(attempt.finished_at),
    ) else {
        return;
    };
    if !attempt.accepted {
        return add("lost attempts", Some(ran));
    }
    let source = attempt.phases.source_us;
    add("source", source);
    let lengths = attempt.phases.command_lengths(ran);
    if lengths.is_empty() {
        let rest = ran.0.saturating_sub(source.unwrap_or_default().0);
        add("commands", Some(Micros(rest)));
    }
    for (i, length) in lengths.into_iter().enumerate() {
        let command = job.commands.get(i).map_or("", |text| text.trim());
        let line: String = command
            .lines()
            .next()
            .unwrap_or("")
            .chars()
            .take(60)
            .collect();
        add(&format!("command {}: {line}", i + 1), Some(length));
    }
    add(
        "log upload",
        between(attempt.exited_at, attempt.finished_at),
    );
}

/// The parts of a job's time from its submission to its end.
fn parts(job: &Job) -> Parts {
    let mut parts = Parts::new();
    let held = between(Some(job.line.created_at), job.ready_at);
    parts.extend(held.map(|length| ("held".to_owned(), length)));
    for attempt in &job.attempts {
        let spans = attempt.wait.iter();
        parts.extend(spans.map(|span| (span.reason.word().to_owned(), span.length_us)));
        of_attempt(job, attempt, &mut parts);
    }
    parts
}

/// Compares a job that is done with another, or with the median of earlier ones like it.
///
/// # Errors
/// Unknown where a job is not visible; a conflict where a job is not done, or no earlier job is like it.
pub async fn show(
    app: &App,
    who: &Principal,
    text: &str,
    params: ComparisonParams,
) -> Result<Comparison> {
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let row = job::find(&mut connection, who, text).await?;
    let number = row.number;
    let (project, title) = (row.project.clone(), row.title.clone());
    let this = job::whole(&mut connection, row, now).await?;
    let name = this.line.name.clone();
    check_done(&this)?;
    let (others, called) = match &params.with {
        Some(other) => {
            let row = job::find(&mut connection, who, other)
                .await
                .map_err(|error| error.field("with"))?;
            let other = job::whole(&mut connection, row, now).await?;
            check_done(&other)?;
            let called = other.line.name.clone();
            (vec![other], called)
        }
        None => {
            let rows = similar(&mut connection, &project, &title, number, MOST_SIMILAR).await?;
            let mut others = Vec::with_capacity(rows.len());
            for row in rows {
                others.push(job::whole(&mut connection, row, now).await?);
            }
            let called = match others.as_slice() {
                [only] => format!("the earlier {}", only.line.name),
                several => format!("the median of {} earlier jobs like it", several.len()),
            };
            (others, called)
        }
    };
    if others.is_empty() {
        let message = format!(
            "no earlier job of {} with the title {title:?} has succeeded",
            this.line.project
        );
        return Err(
            ServiceError::conflict("no-similar-jobs", "Nothing to compare with", message)
                .remedy("name the job to compare with"),
        );
    }
    let theirs: Vec<Parts> = others.iter().map(parts).collect();
    let compared = compare(&parts(&this), &theirs);
    Ok(Comparison {
        message: describe(&name, &called, &compared),
        job: name,
        with: others.iter().map(|other| other.line.name.clone()).collect(),
        parts: compared,
    })
}

/// Refuses a job that is not done: its parts still grow.
fn check_done(job: &Job) -> Result<()> {
    if job.line.state == JobState::Done {
        return Ok(());
    }
    let message = format!("{} is {}", job.line.name, job.line.state);
    Err(
        ServiceError::conflict("job-not-done", "The job is not done", message)
            .remedy("compare jobs that are done"),
    )
}
