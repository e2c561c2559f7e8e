//! `pennine queue`.

use crate::error::Error;
use crate::view;
use clap::{Args, Subcommand};
use pennine_client::Client;
use pennine_core::dispatch::{Band, Reason};
use pennine_wire::{Action, BulkAction, Queue};

#[derive(Subcommand)]
pub enum Verb {
    /// Cancel waiting jobs.
    Cancel(JobFilter),
    /// Move waiting jobs to another band: urgent, normal or background.
    Move {
        /// The band: urgent, normal or background.
        #[arg(value_parser = view::word::<Band>)]
        band: Band,
        #[command(flatten)]
        which: JobFilter,
    },
    /// Retry jobs that ended without success.
    Retry(JobFilter),
}

/// Which jobs: all of the conditions that are given, at least one.
#[derive(Args)]
pub struct JobFilter {
    /// Jobs that wait for this reason, such as no-match.
    #[arg(long, value_parser = view::word::<Reason>)]
    reason: Option<Reason>,
    /// Jobs of this project.
    #[arg(long)]
    project: Option<String>,
    /// Jobs of this team and the teams below it.
    #[arg(long, conflicts_with = "project")]
    team: Option<String>,
    /// Jobs with an equivalent requirement.
    #[arg(long = "where", value_name = "REQUIREMENT")]
    requirement: Option<String>,
    /// Only show how many jobs would be affected.
    #[arg(long)]
    preview: bool,
    /// Jobs, by short name or id.
    jobs: Vec<String>,
}

/// Many jobs at once.
pub async fn act(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    let (action, which) = match verb {
        Verb::Cancel(which) => (Action::Cancel, which),
        Verb::Retry(which) => (Action::Retry, which),
        Verb::Move { band, which } => {
            let action = match band {
                Band::Urgent => Action::Urgent,
                Band::Normal => Action::Normal,
                Band::Background => Action::Background,
            };
            (action, which)
        }
    };
    let preview = which.preview;
    let sent = BulkAction {
        action,
        reason: which.reason,
        project: which.project,
        team: which.team,
        requirement: which.requirement,
        jobs: which.jobs,
        preview,
    };
    let result = client.act_on_jobs(&sent).await?;
    if json {
        return view::json(&result);
    }
    let names = match result.jobs.as_slice() {
        [] => String::new(),
        names => format!(
            ": {}{}",
            names.join(", "),
            if result.changed.max(result.found) > names.len() as u64 {
                ", …"
            } else {
                ""
            }
        ),
    };
    let jobs = |n: u64| {
        if n == 1 {
            "1 job".to_owned()
        } else {
            format!("{n} jobs")
        }
    };
    if preview {
        return view::line(format!("It would be {}{names}", jobs(result.found)));
    }
    let done = match action {
        Action::Cancel => "cancelled",
        Action::Retry => "submitted again",
        Action::Urgent => "moved to the urgent band",
        Action::Normal => "moved to the normal band",
        Action::Background => "moved to the background band",
    };
    view::line(format!("{} {done}{names}", jobs(result.changed)))?;
    if result.more {
        view::line("There are more: repeat the command.")?;
    }
    Ok(())
}

/// The waiting jobs, by reason.
pub async fn run(client: &Client, json: bool, watch: bool) -> Result<(), Error> {
    if json {
        return view::json(&client.queue().await?);
    }
    view::watch(watch, || async { Ok(text(&client.queue().await?)) }).await
}

fn text(queue: &Queue) -> String {
    if queue.waiting == 0 {
        return "Nothing waits.\n".to_owned();
    }
    let mut text = String::new();
    for group in &queue.groups {
        let jobs = if group.jobs == 1 {
            "1 job".to_owned()
        } else {
            format!("{} jobs", group.jobs)
        };
        let person = if group.needs_a_person {
            ", needs your attention"
        } else {
            ""
        };
        text += &format!(
            "{} ({}, longest {}{person})\n",
            group.reason,
            jobs,
            view::length(group.longest_us)
        );
        for strand in &group.strands {
            let wants = if strand.requirement.is_empty() {
                "any runner"
            } else {
                &strand.requirement
            };
            text += &format!(
                "  {} × {}{} wants {}{}: {}\n",
                strand.jobs,
                strand.project,
                match strand.band {
                    Band::Normal => String::new(),
                    band => format!(" ({band})"),
                },
                wants,
                strand
                    .seats
                    .iter()
                    .map(|(name, count)| format!(" + {count} {name}"))
                    .collect::<String>(),
                strand.message
            );
            for hint in &strand.hints {
                text += &format!("      {}\n", hint.describe());
            }
            if let Some(remedy) = strand.remedy.as_ref().filter(|_| group.needs_a_person) {
                text += &format!("      {}\n", remedy.message);
            }
            for action in &strand.actions {
                text += &format!("      {}: {}\n", action.message, action.command);
            }
            text += &format!(
                "      first: {} (pennine why {})\n",
                strand.first, strand.first
            );
        }
    }
    text
}
