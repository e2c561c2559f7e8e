//! `pennine run`: the jobs of a job sheet, submitted together.

use super::sheet;
use crate::error::Error;
use crate::{source_archive, view};
use clap::{Args, Subcommand};
use pennine_client::{Client, RunListFilter};
use pennine_core::id::SourceId;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::run::RunState;
use pennine_core::time::Moment;
use pennine_core::trust::Trust;
use pennine_wire::{NewRun, Run, RunCounts, RunJob, RunLine, RunRetry};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// Submit the jobs of a job sheet.
    Submit(Submit),
    /// List runs, newest first.
    List {
        /// Only runs of this project.
        #[arg(long)]
        project: Option<String>,
        /// Only runs of this team and the teams below it.
        #[arg(long, conflicts_with = "project")]
        team: Option<String>,
        /// Only runs of this branch.
        #[arg(long)]
        branch: Option<String>,
        /// Only runs whose name, title, project, branch, revision or submitter contains this text.
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
        /// Also the runs of jobs that were submitted alone.
        #[arg(long)]
        all: bool,
        /// How many.
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=200))]
        limit: u32,
        /// Only runs before this one.
        #[arg(long, value_name = "RUN")]
        after: Option<String>,
    },
    /// Show a run: its jobs, step by step, and what each waits for.
    Show {
        /// Its short name or id.
        run: String,
    },
    /// Show a run and refresh it every two seconds, until it is done.
    Watch {
        /// Its short name or id.
        run: String,
    },
    /// Cancel every job of a run that is not done.
    Cancel {
        /// Its short name or id.
        run: String,
    },
    /// Try jobs of a run again: those that ended without success, or the ones named.
    Retry {
        /// Its short name or id.
        run: String,
        /// Jobs, by their names in the sheet or their short names [default: those that ended without success]
        jobs: Vec<String>,
        /// Also the jobs that needed these and have succeeded.
        #[arg(long)]
        with_dependents: bool,
    },
    /// Release a job that waits for a person.
    Release {
        /// The job's short name or id.
        job: String,
    },
}

#[derive(Args)]
pub struct Submit {
    /// The folder with the job sheet, pennine.toml. Its files are sent: each job begins with them.
    #[arg(default_value = ".")]
    dir: PathBuf,
    /// The project's path, or its name if that is unique.
    #[arg(long)]
    project: String,
    /// What to call it [default: the names of its jobs]
    #[arg(long)]
    title: Option<String>,
    /// The branch that it is of. A newer run of the same branch can overtake it.
    #[arg(long)]
    branch: Option<String>,
    /// The revision that it is of.
    #[arg(long)]
    revision: Option<String>,
    /// Why it is submitted, for the sheet's applies [default: manual]
    #[arg(long)]
    event: Option<String>,
    /// A value in place of the sheet's own; may be given several times.
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = super::job::pair)]
    values: Vec<(String, String)>,
    /// Its code is not trusted: its jobs take no seats, are given no secrets, and run only in pools that take untrusted jobs.
    #[arg(long)]
    untrusted: bool,
    /// Send no files: each job begins with an empty workspace.
    #[arg(long)]
    no_files: bool,
    /// Report the end of each job; exit with 0 if the run succeeds and 1 if not.
    #[arg(long)]
    follow: bool,
}

/// How long a follower waits between two looks at a run.
const LOOK: Duration = Duration::from_secs(1);

/// `pennine run`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<ExitCode, Error> {
    match verb {
        Verb::Submit(submit) => return self::submit(client, json, submit).await,
        Verb::List {
            project,
            team,
            branch,
            search,
            all,
            limit,
            after,
        } => {
            let filter = RunListFilter {
                project,
                team,
                branch,
                search,
                with_sheet: !all,
                after,
                limit: Some(limit),
            };
            let page = client.runs(&filter).await?;
            if json {
                view::json(&page)?;
            } else {
                let now = client.status().await?.now;
                view::print(&list(&page.items, page.next.as_deref(), now))?;
            }
        }
        Verb::Show { run } => shown(json, &client.run(&run).await?)?,
        Verb::Watch { run } => return watch(client, json, &run).await,
        Verb::Cancel { run } => shown(json, &client.cancel_run(&run).await?)?,
        Verb::Retry {
            run,
            jobs,
            with_dependents,
        } => {
            let retry = RunRetry {
                jobs,
                with_dependents,
            };
            shown(json, &client.retry_run(&run, &retry).await?)?;
        }
        Verb::Release { job } => shown(json, &client.release_job(&job).await?)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn shown(json: bool, run: &Run) -> Result<(), Error> {
    if json {
        return view::json(run);
    }
    view::print(&text(run))
}

async fn submit(client: &Client, json: bool, submit: Submit) -> Result<ExitCode, Error> {
    let file = submit.dir.join("pennine.toml");
    let text = sheet::read(&file)?;
    let values: BTreeMap<String, String> = submit.values.into_iter().collect();
    // Mistakes are shown with their places before anything is sent.
    sheet::parse(&file, &text, &values)?;
    let source = match submit.no_files {
        true => None,
        false => Some(upload(client, &submit.dir, &submit.project).await?),
    };
    let new = NewRun {
        source,
        project: submit.project,
        sheet: text,
        title: submit.title,
        branch: submit.branch,
        revision: submit.revision,
        event: submit.event,
        values,
        trust: match submit.untrusted {
            true => Trust::Untrusted,
            false => Trust::Trusted,
        },
    };
    let taken = client.submit_run(&new).await?;
    for hint in &taken.hints {
        view::note(format!("note: {}: {}", hint.job, hint.hint.describe()));
    }
    let name = &taken.run.line.name;
    if submit.follow {
        if !json {
            view::note(format!("{name} is submitted"));
        }
        return follow(client, json, name).await;
    }
    if json {
        view::json(&taken)?;
    } else {
        let count = taken.run.graph.len();
        let s = if count == 1 { "" } else { "s" };
        view::line(format!(
            "{name} is submitted, with {count} job{s}. Watch it with: pennine run watch {name}"
        ))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// Sends a folder's files.
async fn upload(client: &Client, folder: &Path, project: &str) -> Result<SourceId, Error> {
    let packed = source_archive::pack(folder)?;
    let file = tokio::fs::File::from_std(packed.archive);
    let uploaded = client.upload_source(project, file, packed.bytes).await?;
    let s = if packed.files == 1 { "" } else { "s" };
    view::note(format!(
        "Sent {} file{s} ({})",
        packed.files, uploaded.bytes
    ));
    Ok(uploaded.id)
}

/// Reports the end of each job, until the run is done.
async fn follow(client: &Client, json: bool, name: &str) -> Result<ExitCode, Error> {
    let mut told: BTreeSet<String> = BTreeSet::new();
    loop {
        let run = client.run(name).await?;
        for job in &run.graph {
            let waits = job.needs_release.then(|| format!("{}/held", job.job.name));
            if let Some(waits) = waits.filter(|waits| !told.contains(waits)) {
                let release = format!("pennine run release {}", job.job.name);
                view::note(format!(
                    "{}: held until a person releases it: {release}",
                    job.job.title
                ));
                told.insert(waits);
            }
            if job.job.state == JobState::Done && told.insert(job.job.name.clone()) && !json {
                view::note(ended(job));
            }
        }
        if run.line.state == RunState::Done {
            if json {
                view::json(&run)?;
            } else {
                view::note(format!("{}: {}", run.line.name, summary(&run.line)));
            }
            return Ok(exit_code(&run.line));
        }
        tokio::time::sleep(LOOK).await;
    }
}

async fn watch(client: &Client, json: bool, name: &str) -> Result<ExitCode, Error> {
    if json {
        view::json(&client.run(name).await?)?;
        return Ok(ExitCode::SUCCESS);
    }
    let first = client.run(name).await?;
    if first.line.state == RunState::Done {
        view::print(&text(&first))?;
        return Ok(exit_code(&first.line));
    }
    let done = std::sync::Mutex::new(None);
    view::watch_until(async || {
        let run = client.run(name).await?;
        let is_done = run.line.state == RunState::Done;
        let shown = text(&run);
        if is_done && let Ok(mut done) = done.lock() {
            *done = Some(run.line);
        }
        Ok((shown, is_done))
    })
    .await?;
    let done = done.into_inner().ok().flatten();
    Ok(done.map_or(ExitCode::SUCCESS, |line| exit_code(&line)))
}

fn exit_code(run: &RunLine) -> ExitCode {
    match run.result {
        Some(Outcome::Success) => ExitCode::SUCCESS,
        _ => ExitCode::FAILURE,
    }
}

/// How a job ended, in a line.
fn ended(job: &RunJob) -> String {
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
fn summary(run: &RunLine) -> String {
    format!("{} ({})", state(run), counts(run))
}

/// A run with its jobs, step by step.
fn text(run: &Run) -> String {
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
fn list(runs: &[RunLine], next: Option<&str>, now: Moment) -> String {
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
