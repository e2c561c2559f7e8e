//! What people set of a runner.

use crate::view;
use pennine_core::fact::FactValue;
use pennine_core::overrides::{Override, Overrides};
use pennine_core::time::Moment;
use pennine_wire::RunnerChange;

#[derive(clap::Args)]
pub struct SetArguments {
    /// Its name, short name or id.
    pub name: String,
    /// Its new name.
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// What it is for.
    #[arg(long, value_name = "TEXT")]
    description: Option<String>,
    /// How many jobs it takes at once.
    #[arg(long, value_name = "N")]
    slots: Option<u32>,
    /// A label to add; may be given several times.
    #[arg(long = "label", value_name = "LABEL")]
    labels: Vec<String>,
    /// A label to remove, even if the machine reports it; may be given several times.
    #[arg(long = "no-label", value_name = "LABEL")]
    no_labels: Vec<String>,
    /// A fact that overrides the machine's; may be given several times.
    #[arg(long = "fact", value_name = "NAME=VALUE", value_parser = pair)]
    facts: Vec<(String, String)>,
    /// An environment variable of every job that it runs; may be given several times.
    #[arg(long = "variable", value_name = "NAME=VALUE", value_parser = pair)]
    variables: Vec<(String, String)>,
    /// A folder searched first for programs; may be given several times.
    #[arg(long = "path", value_name = "FOLDER")]
    paths: Vec<String>,
    /// Reset an override: slots, paths, label:NAME, fact:NAME or variable:NAME; may be given several times.
    #[arg(long = "reset", value_name = "WHAT", value_parser = reset)]
    resets: Vec<Reset>,
    /// Only show what would change.
    #[arg(long)]
    preview: bool,
    /// Proceed although jobs would be left without a runner.
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
        _ => Err("use slots, paths, label:NAME, fact:NAME or variable:NAME".to_owned()),
    }
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("use NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

impl SetArguments {
    /// The change that they ask for.
    pub fn change(self) -> RunnerChange {
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

/// What people set, in lines: what, to what, who, when.
pub fn set_by_people(settings: &Overrides, now: Moment) -> Vec<Vec<String>> {
    fn line<T>(what: String, to: String, set: &Override<T>, now: Moment) -> Vec<String> {
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
