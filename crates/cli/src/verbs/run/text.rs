//! Runs as text.

use crate::view;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::time::Moment;
use pennine_wire::{Run, RunCounts, RunJob, RunLine};

/// How a job ended, in a line.
pub(super) fn ended(job: &RunJob) -> String {
    let result = job.job.result.map_or("no result", Outcome::word);
    let message = match &job.message {
        Some(message) => format!(" ({message})"),
        None => String::new(),
    };
    let ran = match job.job.ran_us {
        Some(ran) => format!(
            "; waited {}, ran {}",
            view::length(job.job.wait_us),
            view::length(ran)
        ),
        None => String::new(),
    };
    format!("{} {}: {result}{message}{ran}", job.job.name, job.job.title)
}

/// The state of a run in a word or two.
fn state(run: &RunLine) -> String {
    match (&run.overtaken_by, run.result) {
        (Some(by), _) => format!("overtaken by {by}"),
        (None, Some(result)) => result.word().to_owned(),
        (None, None) => run.state.word().to_owned(),
    }
}

/// How many jobs of a run are in which state: "1 executing, 2 held, 4 succeeded".
fn counts(run: &RunLine) -> String {
    let RunCounts {
        held,
        pending,
        executing,
        success,
        failure,
        cancellation,
        skip,
    } = run.jobs;
    let parts = [
        (executing, "executing"),
        (pending, "pending"),
        (held, "held"),
        (failure, "failed"),
        (skip, "skipped"),
        (cancellation, "cancelled"),
        (success, "succeeded"),
    ];
    let parts: Vec<String> = (parts.iter())
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{count} {word}"))
        .collect();
    parts.join(", ")
}

/// How many jobs of a run are done: "4 of 5 done".
fn done(run: &RunLine) -> String {
    let jobs = run.jobs;
    let done = jobs.success + jobs.failure + jobs.cancellation + jobs.skip;
    let open = jobs.held + jobs.pending + jobs.executing;
    format!("{done} of {} done", done + open)
}

/// What a run amounts to, in a phrase: "failure (1 failed, 2 skipped, 4 succeeded)".
pub(super) fn summary(run: &RunLine) -> String {
    format!("{} ({})", state(run), counts(run))
}

/// A run with its jobs, step by step.
pub(super) fn text(run: &Run) -> String {
    let line = &run.line;
    let mut text = format!("{} {}: {}\n", line.name, line.title, summary(line));
    let mut about = vec![format!("project {}", line.project)];
    about.extend(
        line.branch
            .as_ref()
            .map(|branch| format!("branch {branch}")),
    );
    about.extend(
        line.revision
            .as_ref()
            .map(|revision| format!("revision {revision}")),
    );
    about.extend(
        run.repository
            .as_ref()
            .map(|address| format!("repository {address}")),
    );
    let submitted = view::ago(line.created_at, run.now);
    about.push(format!("submitted {submitted} by {}", line.created_by));
    text += &view::wrapped("  ", &about.join("; "));
    let values: Vec<String> = run
        .values
        .iter()
        .map(|(name, value)| format!("{name}={value}"))
        .collect();
    if !values.is_empty() {
        text += &view::wrapped("  values ", &values.join(" "));
    }
    for overridden in &run.overridden {
        text += &view::wrapped("  override  ", overridden);
    }
    text.push('\n');
    let mut jobs: Vec<&RunJob> = run.graph.iter().collect();
    jobs.sort_by_key(|job| job.step);
    let rows = jobs.iter().map(|job| {
        vec![
            job.step.to_string(),
            view::cut(&job.job.title, 28),
            job.job.name.clone(),
            view::state(&job.job),
            job.job.runner.clone().unwrap_or_default(),
            job.job
                .started_at
                .map_or_else(String::new, |_| view::length(job.job.wait_us)),
            job.job.ran_us.map_or_else(String::new, view::length),
        ]
    });
    text += &view::table(
        &["step", "job", "name", "state", "runner", "waited", "ran"],
        rows,
    );
    text += &critical_path(run);
    for job in jobs {
        let reason = match job.job.state {
            JobState::Done if job.job.result != Some(Outcome::Success) => job.message.clone(),
            JobState::Held => job.held_for.clone(),
            _ => None,
        };
        if let Some(reason) = reason {
            text += &view::wrapped("  ", &format!("{}: {reason}", job.job.title));
        }
        if job.needs_release {
            text += &format!("    to release it: pennine run release {}\n", job.job.name);
        }
    }
    text
}

/// The chain of jobs that made a run as long as it is.
fn critical_path(run: &Run) -> String {
    let named = |name: &String| run.graph.iter().find(|job| job.job.name == *name);
    let path: Vec<&RunJob> = run.critical_path.iter().filter_map(named).collect();
    let (Some(last), true) = (path.last(), path.len() > 1) else {
        return String::new();
    };
    let until = last.job.finished_at.unwrap_or(run.now);
    let took = view::length(until.since(run.line.created_at).into());
    let names: Vec<&str> = path.iter().map(|job| job.job.title.as_str()).collect();
    view::wrapped(
        "",
        &format!("Critical path ({took}): {}", names.join(", then ")),
    )
}

/// A list of runs.
pub(super) fn list(runs: &[RunLine], next: Option<&str>, now: Moment) -> String {
    if runs.is_empty() {
        return "No runs match. Submit one with: pennine run submit --project PROJECT\n".to_owned();
    }
    let rows = runs.iter().map(|run| {
        vec![
            run.name.clone(),
            view::cut(&run.title, view::roomy(20)),
            view::cut(&run.project, 18),
            view::cut(run.branch.as_deref().unwrap_or(""), 8),
            match run.overtaken_by {
                Some(_) => "overtaken".to_owned(),
                None => state(run),
            },
            done(run),
            view::ago(run.created_at, now),
        ]
    });
    let mut text = view::table(
        &[
            "run",
            "title",
            "project",
            "branch",
            "state",
            "jobs",
            "submitted",
        ],
        rows,
    );
    if let Some(next) = next {
        text += &format!("Older runs: --after {next}\n");
    }
    text
}
