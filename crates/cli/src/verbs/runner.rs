//! `pennine runner`.

use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_client::RunnerFilter;
use pennine_core::finding::{self, Verdict};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::time::{Moment, spoken};
use pennine_wire::{ChangedRunner, NextJob, Retirement, Runner, TakeRunnerBack};
use set::{SetArguments, set_by_people};
use std::time::Duration;

mod set;

#[derive(Subcommand)]
pub enum Verb {
    /// List the runners.
    List {
        /// Only runners that have not polled for this many days.
        #[arg(long, value_name = "DAYS", conflicts_with = "watch")]
        away: Option<u32>,
        /// Only runners that satisfy this requirement: 'gcc >= 12 and not bench'.
        #[arg(long = "where", value_name = "REQUIREMENT")]
        requirement: Option<String>,
        /// Only runners of this pool.
        #[arg(long)]
        pool: Option<String>,
        /// Only runners in this state.
        #[arg(long)]
        state: Option<RunnerState>,
        /// Refresh every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Show one runner, with its facts.
    Show {
        /// Its name, short name or id.
        name: String,
    },
    /// Change a runner. Overrides replace what its machine reports, until they are reset.
    Set(Box<SetArguments>),
    /// Retire a runner permanently. Its record stays; no secret is needed.
    Retire {
        /// Its name, short name or id.
        name: String,
        /// End its jobs; they are retried elsewhere.
        #[arg(long)]
        force: bool,
        /// Only show what would change.
        #[arg(long)]
        preview: bool,
        /// Proceed although jobs would be left without a runner.
        #[arg(long)]
        yes: bool,
    },
    /// Check a runner from the service's side, and show remedies.
    Doctor {
        /// Its name, short name or id.
        name: String,
    },
    /// Take over a runner: its jobs are retried elsewhere, and it is paused until you resume it.
    TakeBack {
        /// Its name, short name or id.
        name: String,
        /// The reason, recorded and shown to the owners of its jobs.
        #[arg(long, value_name = "TEXT")]
        why: String,
    },
    /// Pause a runner: it finishes its jobs and accepts no new ones.
    Pause {
        /// Its name, short name or id.
        name: String,
    },
    /// Resume a runner.
    Resume {
        /// Its name, short name or id.
        name: String,
    },
    /// Drain a runner: it finishes its jobs and accepts no new ones.
    Drain {
        /// Its name, short name or id.
        name: String,
    },
}

/// Runners as a table.
pub fn table(runners: &[Runner]) -> String {
    view::table(
        &[
            "runner", "name", "pool", "state", "used", "labels", "executes",
        ],
        runners.iter().map(|runner| {
            let jobs: Vec<String> = runner
                .executing
                .iter()
                .map(|job| format!("{} {}", job.job, job.title))
                .collect();
            let labels: Vec<&str> = runner
                .labels
                .iter()
                .chain(&runner.pool_labels)
                .map(String::as_str)
                .collect();
            vec![
                runner.short.clone(),
                runner.name.clone(),
                runner.pool.clone(),
                runner.state.to_string(),
                format!("{} of {}", runner.used, runner.slots),
                labels.join(", "),
                view::cut(&jobs.join(", "), 34),
            ]
        }),
    )
}

/// `pennine runner`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Pause { name } => set_desired_state(client, json, &name, DesiredState::Pause).await,
        Verb::Resume { name } => set_desired_state(client, json, &name, DesiredState::Work).await,
        Verb::Drain { name } => set_desired_state(client, json, &name, DesiredState::Drain).await,
        Verb::Set(arguments) => set(client, json, *arguments).await,
        Verb::Retire {
            name,
            force,
            preview,
            yes,
        } => {
            let how = Retirement {
                force,
                preview,
                accept_losses: yes,
            };
            retire(client, json, &name, how).await
        }
        Verb::Doctor { name } => doctor(client, json, &name).await,
        Verb::TakeBack { name, why } => take_back(client, json, &name, why).await,
        Verb::List {
            away: Some(days), ..
        } => list_away(client, json, days).await,
        Verb::List {
            away: None,
            requirement,
            pool,
            state,
            watch,
        } => {
            let filter = RunnerFilter {
                requirement,
                pool,
                state,
            };
            list(client, json, filter, watch).await
        }
        Verb::Show { name } => show(client, json, &name).await,
    }
}

async fn set(client: &Client, json: bool, arguments: SetArguments) -> Result<(), Error> {
    let name = arguments.name.clone();
    let changed = client.change_runner(&name, &arguments.change()).await?;
    if json {
        return view::json(&changed);
    }
    let head = format!("Changed the runner {}.\n", changed.runner.name);
    view::print(&change_text(&changed, &head))
}

async fn retire(client: &Client, json: bool, name: &str, how: Retirement) -> Result<(), Error> {
    let changed = client.retire_runner(name, &how).await?;
    if json {
        return view::json(&changed);
    }
    let head = format!(
        "Retired {} ({}). Its record stays: pennine runner show {1}\n",
        changed.runner.name, changed.runner.short
    );
    view::print(&change_text(&changed, &head))
}

async fn take_back(client: &Client, json: bool, name: &str, why: String) -> Result<(), Error> {
    let changed = client
        .take_runner_back(name, &TakeRunnerBack { reason: why })
        .await?;
    if json {
        return view::json(&changed);
    }
    let mut text = format!("{} is taken over: it is paused.\n", changed.runner.name);
    for job in &changed.ends {
        text += &format!(
            "It ended {} {} of {}, which is retried.\n",
            job.job, job.title, job.project
        );
    }
    text += &format!(
        "Return it with: pennine runner resume {}\n",
        changed.runner.name
    );
    view::print(&text)
}

/// Lists the runners that have not polled for this many days.
async fn list_away(client: &Client, json: bool, days: u32) -> Result<(), Error> {
    let now = client.status().await?.now;
    let long = now - Duration::from_secs(u64::from(days) * 86_400);
    let mut runners = client.runners(&RunnerFilter::default()).await?;
    runners.items.retain(|runner| {
        runner.state == RunnerState::Offline && runner.seen_at.unwrap_or(runner.created_at) <= long
    });
    if json {
        return view::json(&runners);
    }
    if runners.items.is_empty() {
        return view::line(format!("All runners polled in the last {days} days."));
    }
    let rows = runners.items.iter().map(|runner| {
        let heard = runner
            .seen_at
            .map_or("never".to_owned(), |at| view::ago(at, now));
        vec![
            runner.short.clone(),
            runner.name.clone(),
            runner.pool.clone(),
            heard,
            view::cut(&runner.reason, 50),
        ]
    });
    let table = view::table(&["runner", "name", "pool", "last poll", "why"], rows);
    view::print(&format!(
        "{table}\nRetire the ones that are gone with: pennine runner retire NAME\n"
    ))
}

async fn list(client: &Client, json: bool, filter: RunnerFilter, watch: bool) -> Result<(), Error> {
    if json {
        return view::json(&client.runners(&filter).await?);
    }
    let show = || async {
        let runners = client.runners(&filter).await?.items;
        Ok(if runners.is_empty() && filter.is_any() {
            "No machines have joined yet. Get the command with: pennine ticket add --pool POOL\n"
                .to_owned()
        } else if runners.is_empty() {
            "No runners match. See which clause excludes them with: pennine where REQUIREMENT\n"
                .to_owned()
        } else {
            table(&runners)
        })
    };
    view::watch(watch, show).await
}

async fn show(client: &Client, json: bool, name: &str) -> Result<(), Error> {
    let runner = client.runner(name).await?;
    if json {
        return view::json(&runner);
    }
    let now = client.status().await?.now;
    let next = match runner.state {
        RunnerState::Awaited | RunnerState::Retired => Vec::new(),
        _ => client.next_on(name).await?.items,
    };
    view::print(&(summary(&runner, now) + &jobs(&runner, &next, now) + &details(&runner, now)))
}

/// What the runner is and how it stands.
fn summary(runner: &Runner, now: Moment) -> String {
    let labels: Vec<&str> = runner
        .labels
        .iter()
        .chain(&runner.pool_labels)
        .map(String::as_str)
        .collect();
    let mut text = format!(
        "{} ({}) in the pool {}: {} for {}, {}\n  {} of {} slots used; labels: {}; pennine-runner {}\n",
        runner.name,
        runner.short,
        runner.pool,
        runner.state,
        spoken(now.since(runner.since)),
        runner.reason,
        runner.used,
        runner.slots,
        if labels.is_empty() {
            "none".to_owned()
        } else {
            labels.join(", ")
        },
        if runner.version.is_empty() {
            "(not joined)"
        } else {
            &runner.version
        }
    );
    if let Some(seen) = runner.seen_at {
        text += &format!("  last poll {}\n", view::ago(seen, now));
    }
    if !runner.description.is_empty() {
        text += &format!("  {}\n", runner.description);
    }
    text
}

/// The jobs that it executes, and the next ones in line.
fn jobs(runner: &Runner, next: &[NextJob], now: Moment) -> String {
    let mut text = String::new();
    for job in &runner.executing {
        let since = job.started_at.map_or(String::new(), |at| {
            format!(", since {}", view::ago(at, now))
        });
        text += &format!(
            "  executes {} {} of {}{since}\n",
            job.job, job.title, job.project
        );
    }
    for (place, job) in next.iter().enumerate() {
        let word = if place == 0 { "next is " } else { "then    " };
        let waits = spoken(now.since(job.waits_since));
        text += &format!(
            "  {word} {} {} of {}, waiting for {waits}\n",
            job.job, job.title, job.project
        );
    }
    text
}

/// What was found wrong, what people set, and the facts.
fn details(runner: &Runner, now: Moment) -> String {
    let mut text = String::new();
    for finding in runner
        .findings
        .iter()
        .filter(|one| one.verdict > Verdict::Passed)
    {
        text += &format!(
            "  {}: {}: {}\n",
            finding.verdict, finding.check, finding.message
        );
    }
    let set = set_by_people(&runner.set, now);
    if !set.is_empty() {
        text += "\n";
        text += &view::table(&["override", "to", "by", "when"], set);
    }
    if !runner.facts.is_empty() {
        text += "\n";
        let rows = runner.facts.iter().map(|(name, value)| {
            let by = match runner.set.facts.get(name) {
                Some(set) => format!("{value} (set by {})", set.by),
                None => value.to_string(),
            };
            vec![name.clone(), by]
        });
        text += &view::table(&["fact", "value"], rows);
    }
    text
}

async fn doctor(client: &Client, json: bool, name: &str) -> Result<(), Error> {
    let checkup = client.check_runner(name).await?;
    if json {
        return view::json(&checkup);
    }
    view::print(&format!(
        "{}\n\n{}",
        checkup.message,
        finding::findings_text(&checkup.findings)
    ))
}

async fn set_desired_state(
    client: &Client,
    json: bool,
    name: &str,
    desired_state: DesiredState,
) -> Result<(), Error> {
    let runner = client.set_desired_state(name, desired_state).await?;
    if json {
        return view::json(&runner);
    }
    let uses = match runner.used {
        0 => String::new(),
        used => format!("; it finishes its jobs ({used} of {} slots)", runner.slots),
    };
    view::line(format!("{} is {}{uses}.", runner.name, runner.state))
}

/// What a change did, or would do.
fn change_text(changed: &ChangedRunner, done: &str) -> String {
    let nothing_lost = changed.losses.is_empty() && changed.ends.is_empty();
    let mut text = match (changed.done, nothing_lost) {
        (true, _) => done.to_owned(),
        (false, true) => "No jobs would be affected.\n".to_owned(),
        (false, false) => "Nothing has been changed yet.\n".to_owned(),
    };
    for job in &changed.ends {
        text += &format!(
            "It ends {} {} of {}, which is retried elsewhere.\n",
            job.job, job.title, job.project
        );
    }
    text + &view::losses(&changed.losses)
}
