//! `pennine runner`.

use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::lifecycle::runner::Wish;
use pennine_core::time::spoken;
use pennine_wire::Runner;

#[derive(Subcommand)]
pub enum Verb {
    /// List the runners.
    List {
        /// Show it again every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Show one runner, with its facts.
    Show {
        /// Its name, short name or id.
        name: String,
    },
    /// Let a runner take nothing new for now.
    Pause {
        /// Its name, short name or id.
        name: String,
    },
    /// Let a runner take work again.
    Resume {
        /// Its name, short name or id.
        name: String,
    },
    /// Let a runner finish what it has and take nothing new.
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
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Trouble> {
    match verb {
        Verb::Pause { name } => wish(client, json, &name, Wish::Pause).await,
        Verb::Resume { name } => wish(client, json, &name, Wish::Work).await,
        Verb::Drain { name } => wish(client, json, &name, Wish::Drain).await,
        Verb::List { watch } => {
            if json {
                return view::json(&client.runners().await?);
            }
            let show = || async {
                let runners = client.runners().await?.items;
                Ok(if runners.is_empty() {
                    "No machine has joined yet. Get a command with: pennine ticket add --pool POOL\n".to_owned()
                } else {
                    table(&runners)
                })
            };
            view::watch(watch, show).await
        }
        Verb::Show { name } => {
            let runner = client.runner(&name).await?;
            if json {
                return view::json(&runner);
            }
            let now = client.status().await?.now;
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
                runner.why,
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
                text += &format!("  last heard of {}\n", view::ago(seen, now));
            }
            for job in &runner.executing {
                text += &format!("  executes {} {} of {}\n", job.job, job.title, job.project);
            }
            if !runner.facts.is_empty() {
                text += "\n";
                let rows = runner
                    .facts
                    .iter()
                    .map(|(name, value)| vec![name.clone(), value.to_string()]);
                text += &view::table(&["fact", "value"], rows);
            }
            view::print(&text)
        }
    }
}

async fn wish(client: &Client, json: bool, name: &str, wish: Wish) -> Result<(), Trouble> {
    let runner = client.set_wish(name, wish).await?;
    if json {
        return view::json(&runner);
    }
    let uses = match runner.used {
        0 => String::new(),
        used => format!(
            "; it finishes what it has ({used} of {} slots)",
            runner.slots
        ),
    };
    view::line(format!("{} is {}{uses}.", runner.name, runner.state))
}
