//! `pennine job`.

mod text;

use crate::error::Error;
use crate::escapes::TerminalFilter;
use crate::{terminal, view};
use clap::{Args, Subcommand};
use pennine_client::{Client, ClientError, JobListFilter};
use pennine_core::dispatch::Band;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::secret::SecretUse;
use pennine_core::time::Micros;
use pennine_core::trust::Trust;
use pennine_wire::{Job, NewJob};
use std::collections::BTreeMap;
use std::process::ExitCode;
use std::time::{Duration, Instant};
use text::{comparison, sizing, text};

#[derive(Subcommand)]
pub enum Verb {
    /// Submit a job: one command, run as given on a runner that satisfies the requirement.
    Submit(Submit),
    /// List jobs, newest first.
    List {
        /// Only jobs in this state: held, pending, executing, finalizing or done; several joined with commas.
        #[arg(long)]
        state: Option<String>,
        /// Only jobs of this project.
        #[arg(long)]
        project: Option<String>,
        /// Only jobs of this team and the teams below it.
        #[arg(long, conflicts_with = "project")]
        team: Option<String>,
        /// Only jobs whose name, title, project, requirement, result, runner or submitter contains this text.
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
        /// How many.
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=200))]
        limit: u32,
        /// Only jobs before this one.
        #[arg(long, value_name = "JOB")]
        after: Option<String>,
        /// Refresh every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Show one job: its times, its wait by reason, its attempts.
    Show {
        /// Its short name or id.
        job: String,
    },
    /// Compare a job that is done with another, or with the median of earlier ones like it: which part took longer.
    Compare {
        /// Its short name or id.
        job: String,
        /// The other job [default: the last 20 earlier jobs of the same project and title that have succeeded]
        with: Option<String>,
    },
    /// Show what the last attempts of a job used of their machines, and whether another size would suit it.
    Sizing {
        /// Its short name or id.
        job: String,
    },
    /// Print a job's log.
    Log {
        /// Its short name or id.
        job: String,
        /// Follow until the job is done.
        #[arg(long)]
        follow: bool,
        /// Attempt number [default: latest]
        #[arg(long)]
        attempt: Option<u32>,
        /// Print control characters to a terminal as they are. They can change its settings or its contents.
        #[arg(long)]
        raw: bool,
    },
    /// Cancel a job.
    Cancel {
        /// Its short name or id.
        job: String,
    },
}

#[derive(Args)]
pub struct Submit {
    /// The project's path, or its name if that is unique.
    #[arg(long)]
    project: String,
    /// Its requirement: 'linux and gcc >= 12' [default: any runner of an open pool]
    #[arg(
        long = "where",
        value_name = "REQUIREMENT",
        default_value = "",
        hide_default_value = true
    )]
    requirement: String,
    /// What to call it.
    #[arg(long)]
    title: Option<String>,
    /// A variable of its environment; may be given several times.
    #[arg(long = "variable", value_name = "NAME=VALUE", value_parser = pair)]
    variables: Vec<(String, String)>,
    /// A secret of its project or of a pool, which it gets as the environment variable NAME; may be given several times.
    #[arg(long = "secret", value_name = "NAME")]
    secrets: Vec<String>,
    /// A secret that it gets as a file in memory; the environment variable NAME holds its path. May be given several times.
    #[arg(long = "secret-file", value_name = "NAME")]
    secret_files: Vec<String>,
    /// How long its command may run: 90s, 20m, 2h [default: 1h]
    #[arg(long, value_name = "TIME", value_parser = view::time)]
    time_limit: Option<Duration>,
    /// How urgent it is: urgent, normal or background.
    #[arg(long, default_value = "normal", value_parser = view::word::<Band>)]
    band: Band,
    /// A seat that it takes while it runs, as NAME or NAME=COUNT; may be given several times.
    #[arg(long = "seat", value_name = "NAME[=COUNT]", value_parser = seat)]
    seats: Vec<(String, u32)>,
    /// Its code is not trusted: it takes no seats, is given no secrets, and runs only in pools that take untrusted jobs.
    #[arg(long, conflicts_with_all = ["seats", "secrets", "secret_files"])]
    untrusted: bool,
    /// How long it waits for a runner before it gives up: 90s, 20m, 2h [default: the project's setting]
    #[arg(long, value_name = "TIME", value_parser = view::time)]
    give_up: Option<Duration>,
    /// Fail at once, rather than wait, if no runner and no pool can satisfy its requirement.
    #[arg(long)]
    fail_unmatched: bool,
    /// How many attempts it may have when runners are lost [default: 3]
    #[arg(long)]
    tries: Option<u32>,
    /// Refuse it if its requirement contains a word that is unknown in the yard.
    #[arg(long)]
    strict: bool,
    /// Follow its log; exit with 0 if the job succeeds and 1 if not.
    #[arg(long)]
    follow: bool,
    /// The program and its arguments, after --.
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<String>,
}

pub(crate) fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("give it as NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

fn seat(text: &str) -> Result<(String, u32), String> {
    match text.split_once('=') {
        None => Ok((text.to_owned(), 1)),
        Some((name, count)) => {
            let count = count
                .parse()
                .map_err(|_| "give it as NAME or NAME=COUNT".to_owned())?;
            Ok((name.to_owned(), count))
        }
    }
}

/// `pennine job`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<ExitCode, Error> {
    match verb {
        Verb::Submit(submit) => return self::submit(client, json, submit).await,
        Verb::List {
            state,
            project,
            team,
            search,
            limit,
            after,
            watch,
        } => {
            let filter = JobListFilter {
                states: state,
                project,
                team,
                search,
            };
            if json {
                view::json(&client.jobs(&filter, after.as_deref(), limit).await?)?;
                return Ok(ExitCode::SUCCESS);
            }
            let show = || async {
                let page = client.jobs(&filter, after.as_deref(), limit).await?;
                let mut text = if page.items.is_empty() {
                    "No jobs match.\n".to_owned()
                } else {
                    view::jobs(&page.items)
                };
                if let Some(next) = page.next {
                    text += &format!("Older jobs: --after {next}\n");
                }
                Ok(text)
            };
            view::watch(watch, show).await?;
        }
        Verb::Show { job } => {
            let job = client.job(&job).await?;
            if json {
                view::json(&job)?
            } else {
                view::print(&text(&job))?
            }
        }
        Verb::Compare { job, with } => {
            let compared = client.compare_job(&job, with.as_deref()).await?;
            if json {
                view::json(&compared)?
            } else {
                view::print(&comparison(&compared))?
            }
        }
        Verb::Sizing { job } => {
            let sizing = client.size_job(&job).await?;
            if json {
                view::json(&sizing)?
            } else {
                view::print(&self::sizing(&sizing))?
            }
        }
        Verb::Log {
            job,
            follow,
            attempt,
            raw,
        } => {
            self::follow(client, &job, attempt, follow, raw).await?;
        }
        Verb::Cancel { job } => {
            let job = client.cancel(&job).await?;
            if json {
                view::json(&job)?;
            } else if job.line.state == JobState::Done {
                let result = job.line.result.map_or("no result", Outcome::word);
                view::line(format!("{} is done, with {result}.", job.line.name))?;
            } else {
                let runner = job.line.runner.as_deref().unwrap_or("its runner");
                view::line(format!(
                    "{} is being cancelled: {runner} asks its command to end, and kills it after 10 s.",
                    job.line.name
                ))?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn submit(client: &Client, json: bool, submit: Submit) -> Result<ExitCode, Error> {
    let new = NewJob {
        project: submit.project,
        requirement: submit.requirement.clone(),
        command: submit.command,
        title: submit.title,
        variables: submit.variables.into_iter().collect::<BTreeMap<_, _>>(),
        secrets: submit
            .secrets
            .into_iter()
            .map(|name| (name, SecretUse::Variable))
            .chain(
                submit
                    .secret_files
                    .into_iter()
                    .map(|name| (name, SecretUse::File)),
            )
            .collect(),
        time_limit_us: submit.time_limit.map(Micros::from),
        tries: submit.tries,
        strict: submit.strict,
        band: submit.band,
        seats: submit.seats.into_iter().collect::<BTreeMap<_, _>>(),
        trust: if submit.untrusted {
            Trust::Untrusted
        } else {
            Trust::Trusted
        },
        give_up_us: submit.give_up.map(Micros::from),
        fail_unmatched: submit.fail_unmatched,
    };
    let taken = client
        .submit(&new, None)
        .await
        .map_err(|error| match error.problem() {
            Some(problem) if problem.column.is_some() => {
                Error::Requirement(error, submit.requirement)
            }
            _ => Error::Client(error),
        })?;
    for hint in &taken.hints {
        view::note(format!("note: {}", hint.describe()));
    }
    let name = taken.job.name.clone();
    if !submit.follow {
        if json {
            view::json(&taken)?;
        } else {
            view::line(format!(
                "{name} is submitted. Follow it with: pennine job log {name} --follow"
            ))?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    if !json {
        view::note(format!("{name} is submitted"));
    }
    follow(client, &name, None, true, false).await?;
    let job = client.job(&name).await?;
    if json {
        view::json(&job)?;
    } else {
        view::note(verdict(&job));
    }
    Ok(if job.line.result == Some(Outcome::Success) {
        ExitCode::SUCCESS
    } else {
        ExitCode::FAILURE
    })
}

fn verdict(job: &Job) -> String {
    let result = job.line.result.map_or("no result", Outcome::word);
    let message = job
        .message
        .as_ref()
        .map(|message| format!(" ({message})"))
        .unwrap_or_default();
    let ran = job
        .line
        .ran_us
        .map(|ran| format!(", ran {}", view::length(ran)))
        .unwrap_or_default();
    format!(
        "{}: {result}{message}; waited {}{ran}",
        job.line.name,
        view::length(job.line.wait_us)
    )
}

/// How long a follower puts up with no connection before it gives up.
const PATIENCE: Duration = Duration::from_secs(120);

/// Prints a log from its beginning, to a terminal without its control characters unless `raw`; with `to_the_end`, until the job is done, over all attempts that follow.
async fn follow(
    client: &Client,
    job: &str,
    number: Option<u32>,
    to_the_end: bool,
    raw: bool,
) -> Result<(), Error> {
    let mut filter =
        (!raw && terminal::is_output()).then(|| TerminalFilter::new(terminal::has_colours()));
    let wait = if to_the_end {
        Micros::from(Duration::from_secs(8))
    } else {
        Micros(0)
    };
    let (mut from, mut attempt) = (0, number);
    let mut away: Option<Instant> = None;
    let mut told_waiting = false;
    loop {
        let part = match client.log(job, attempt, from, wait).await {
            Ok(part) => part,
            // The service may be restarting: what was printed is not printed again.
            Err(error) if to_the_end && error.passes() => {
                if away.get_or_insert_with(Instant::now).elapsed() > PATIENCE {
                    return Err(error.into());
                }
                tokio::time::sleep(Duration::from_millis(300)).await;
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        away = None;
        attempt = attempt.or(part.attempt);
        from = part.next;
        let shown = match &mut filter {
            Some(filter) => filter.filter(&part.bytes).into_bytes().into(),
            None => part.bytes.clone(),
        };
        if !shown.is_empty() && !view::write(&shown)? {
            return Ok(());
        }
        if !to_the_end {
            if part.complete || part.bytes.is_empty() {
                return Ok(());
            }
            continue;
        }
        if part.complete {
            let now = poll_job(client, job).await?;
            if now.line.state == JobState::Done || number.is_some() {
                return Ok(());
            }
            // This attempt was lost; go on with the next one when there is one.
            let latest = now.attempts.last().map(|one| one.number);
            if latest > attempt {
                view::note(format!(
                    "attempt {} was lost; the next attempt follows",
                    attempt.unwrap_or(0)
                ));
                (from, attempt) = (0, latest);
            } else {
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
        } else if attempt.is_none() && !told_waiting {
            told_waiting = true;
            if let Ok(why) = client.why(job).await {
                view::note(&why.message);
            }
        }
    }
}

/// The job, asked for again while there is no connection.
async fn poll_job(client: &Client, job: &str) -> Result<Job, ClientError> {
    let begun = Instant::now();
    loop {
        match client.job(job).await {
            Err(error) if error.passes() && begun.elapsed() < PATIENCE => {
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
            other => return other,
        }
    }
}
