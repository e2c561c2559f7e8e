//! `pennine runner`.

use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::fact::FactValue;
use pennine_core::lifecycle::runner::{RunnerState, Wish};
use pennine_core::setting::{Set, Settings};
use pennine_core::time::{Moment, spoken};
use pennine_wire::{ChangedRunner, Retirement, Runner, RunnerChange};
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// List the runners.
    List {
        /// Only those not heard of for so many days: machines that somebody forgot.
        #[arg(long, value_name = "DAYS", conflicts_with = "watch")]
        away: Option<u32>,
        /// Show it again every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Show one runner, with its facts.
    Show {
        /// Its name, short name or id.
        name: String,
    },
    /// Change a runner. What people set counts over what its machine says, until it is reset.
    Set(Box<SetArguments>),
    /// Take a runner out for good. Its record stays, and no secret is needed.
    Retire {
        /// Its name, short name or id.
        name: String,
        /// End the jobs that it has; they are tried again elsewhere.
        #[arg(long)]
        force: bool,
        /// Only say what it would do.
        #[arg(long)]
        preview: bool,
        /// Do it although jobs would be left that nothing can run.
        #[arg(long)]
        yes: bool,
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

#[derive(clap::Args)]
pub struct SetArguments {
    /// Its name, short name or id.
    name: String,
    /// What it is called from now on.
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// What it is for.
    #[arg(long, value_name = "TEXT")]
    description: Option<String>,
    /// How many jobs it takes at once.
    #[arg(long, value_name = "N")]
    slots: Option<u32>,
    /// A label that it is to have; may be given several times.
    #[arg(long = "label", value_name = "LABEL")]
    labels: Vec<String>,
    /// A label that it is not to have, whatever its machine says; may be given several times.
    #[arg(long = "no-label", value_name = "LABEL")]
    no_labels: Vec<String>,
    /// A fact over what its machine finds; may be given several times.
    #[arg(long = "fact", value_name = "NAME=VALUE", value_parser = pair)]
    facts: Vec<(String, String)>,
    /// An environment variable of every job that it runs; may be given several times.
    #[arg(long = "variable", value_name = "NAME=VALUE", value_parser = pair)]
    variables: Vec<(String, String)>,
    /// A folder in which programs are looked for first; may be given several times.
    #[arg(long = "path", value_name = "FOLDER")]
    paths: Vec<String>,
    /// Take back what people set: slots, paths, label:NAME, fact:NAME or variable:NAME; may be given several times.
    #[arg(long = "reset", value_name = "WHAT", value_parser = reset)]
    resets: Vec<Reset>,
    /// Only say what it would do.
    #[arg(long)]
    preview: bool,
    /// Do it although jobs would be left that nothing can run.
    #[arg(long)]
    yes: bool,
}

/// What is taken back.
#[derive(Clone)]
enum Reset {
    Slots,
    Paths,
    Label(String),
    Fact(String),
    Variable(String),
}

fn reset(text: &str) -> Result<Reset, String> {
    let (kind, name) = text.split_once(':').unwrap_or((text, ""));
    match (kind, name) {
        ("slots", "") => Ok(Reset::Slots),
        ("paths", "") => Ok(Reset::Paths),
        ("label", name) if !name.is_empty() => Ok(Reset::Label(name.to_owned())),
        ("fact", name) if !name.is_empty() => Ok(Reset::Fact(name.to_owned())),
        ("variable", name) if !name.is_empty() => Ok(Reset::Variable(name.to_owned())),
        _ => Err("it is slots, paths, label:NAME, fact:NAME or variable:NAME".to_owned()),
    }
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("it is NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

impl SetArguments {
    fn change(self) -> RunnerChange {
        let mut change = RunnerChange {
            name: self.rename,
            description: self.description,
            slots: self.slots.map(Some),
            paths: (!self.paths.is_empty()).then_some(Some(self.paths)),
            preview: self.preview,
            accept_losses: self.yes,
            ..RunnerChange::default()
        };
        for (labels, has) in [(self.labels, true), (self.no_labels, false)] {
            let set = labels.into_iter().map(|label| (label, Some(has)));
            change.labels.extend(set);
        }
        let facts = self.facts.into_iter();
        change
            .facts
            .extend(facts.map(|(name, value)| (name, Some(FactValue::Text(value)))));
        let variables = self.variables.into_iter();
        change
            .variables
            .extend(variables.map(|(name, value)| (name, Some(value))));
        for reset in self.resets {
            match reset {
                Reset::Slots => change.slots = Some(None),
                Reset::Paths => change.paths = Some(None),
                Reset::Label(name) => drop(change.labels.insert(name, None)),
                Reset::Fact(name) => drop(change.facts.insert(name, None)),
                Reset::Variable(name) => drop(change.variables.insert(name, None)),
            }
        }
        change
    }
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
        Verb::Set(arguments) => {
            let name = arguments.name.clone();
            let changed = client.change_runner(&name, &arguments.change()).await?;
            if json {
                return view::json(&changed);
            }
            let head = format!("Changed the runner {}.\n", changed.runner.name);
            view::print(&told(&changed, &head))
        }
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
            let changed = client.retire_runner(&name, &how).await?;
            if json {
                return view::json(&changed);
            }
            let head = format!(
                "Retired {} ({}). Its record stays: pennine runner show {1}\n",
                changed.runner.name, changed.runner.short
            );
            view::print(&told(&changed, &head))
        }
        Verb::List {
            away: Some(days),
            watch: _,
        } => {
            let now = client.status().await?.now;
            let long = now - Duration::from_secs(u64::from(days) * 86_400);
            let mut runners = client.runners().await?;
            runners.items.retain(|runner| {
                runner.state == RunnerState::Offline
                    && runner.seen_at.unwrap_or(runner.created_at) <= long
            });
            if json {
                return view::json(&runners);
            }
            if runners.items.is_empty() {
                return view::line(format!(
                    "Every runner was heard of in the last {days} days."
                ));
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
                    view::cut(&runner.why, 50),
                ]
            });
            let table = view::table(&["runner", "name", "pool", "last heard of", "why"], rows);
            view::print(&format!(
                "{table}\nWhat is gone for good is retired with: pennine runner retire NAME\n"
            ))
        }
        Verb::List { away: None, watch } => {
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
            if !runner.description.is_empty() {
                text += &format!("  {}\n", runner.description);
            }
            for job in &runner.executing {
                text += &format!("  executes {} {} of {}\n", job.job, job.title, job.project);
            }
            let set = set_by_people(&runner.set, now);
            if !set.is_empty() {
                text += "\n";
                text += &view::table(&["set by people", "to", "by", "when"], set);
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

/// What people set, in lines: what, to what, who, when.
fn set_by_people(settings: &Settings, now: Moment) -> Vec<Vec<String>> {
    fn line<T>(what: String, to: String, set: &Set<T>, now: Moment) -> Vec<String> {
        vec![
            what,
            view::cut(&to, 40),
            set.by.clone(),
            view::ago(set.at, now),
        ]
    }
    let mut lines = Vec::new();
    if let Some(set) = &settings.slots {
        lines.push(line("slots".into(), set.value.to_string(), set, now));
    }
    if let Some(set) = &settings.paths {
        lines.push(line("paths".into(), set.value.join(":"), set, now));
    }
    for (name, set) in &settings.labels {
        let has = if set.value { "has it" } else { "has it not" };
        lines.push(line(format!("label {name}"), has.into(), set, now));
    }
    for (name, set) in &settings.facts {
        lines.push(line(
            format!("fact {name}"),
            set.value.to_string(),
            set,
            now,
        ));
    }
    for (name, set) in &settings.variables {
        lines.push(line(
            format!("variable {name}"),
            set.value.clone(),
            set,
            now,
        ));
    }
    lines
}

/// What a change did, or would do.
fn told(changed: &ChangedRunner, done: &str) -> String {
    let nothing_lost = changed.losses.is_empty() && changed.ends.is_empty();
    let mut text = match (changed.done, nothing_lost) {
        (true, _) => done.to_owned(),
        (false, true) => "Nobody would lose anything by it.\n".to_owned(),
        (false, false) => "Nothing is changed yet.\n".to_owned(),
    };
    for job in &changed.ends {
        text += &format!(
            "It ends {} {} of {}, to be tried again elsewhere.\n",
            job.job, job.title, job.project
        );
    }
    text + &view::losses(&changed.losses)
}
