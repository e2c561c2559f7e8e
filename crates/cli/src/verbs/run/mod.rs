//! `pennine run`: the jobs of a job sheet, submitted together.

mod overrides;
mod submit;
mod text;

use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::{Client, RunListFilter};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::run::RunState;
use pennine_wire::{Run, RunLine, RunRetry};
use std::process::ExitCode;
use submit::Submit;
use text::{list, text};

#[derive(Subcommand)]
pub enum Verb {
    /// Submit the jobs of a job sheet.
    Submit(Box<Submit>),
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

/// `pennine run`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<ExitCode, Error> {
    match verb {
        Verb::Submit(submit) => return submit::submit(client, json, *submit).await,
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
