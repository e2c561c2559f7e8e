//! `pennine queue`.

use crate::error::Error;
use crate::terminal;
use crate::view;
use clap::{Args, Subcommand};
use pennine_client::{Client, QueueFilter};
use pennine_core::count::grouped;
use pennine_core::dispatch::{Band, Reason};
use pennine_core::lifecycle::bulk::BulkState;
use pennine_wire::{Action, BulkAction, BulkProgress, Queue, QueueGroup, QueueStrand};
use std::time::Duration;

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
    /// List the latest actions on more than 500 jobs, with how far they are.
    Actions,
    /// Stop an action on many jobs; what it has changed stays changed.
    Stop {
        /// Its short name, such as b-3.
        action: String,
    },
}

/// Which jobs: all of the conditions that are given, at least one.
#[derive(Args)]
pub struct JobFilter {
    /// Jobs that wait for this reason, such as no-match.
    #[arg(long, value_parser = view::word::<Reason>)]
    reason: Option<Reason>,
    /// Jobs for which this is missing, as the queue names it.
    #[arg(long, requires = "reason")]
    cause: Option<String>,
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
        Verb::Actions => return actions(client, json).await,
        Verb::Stop { action } => return stop(client, json, &action).await,
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
        cause: which.cause,
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
    if preview {
        return view::line(format!(
            "It would be {}{names}",
            view::job_count(result.found)
        ));
    }
    let done = match action {
        Action::Cancel => "cancelled",
        Action::Retry => "submitted again",
        Action::Urgent => "moved to the urgent band",
        Action::Normal => "moved to the normal band",
        Action::Background => "moved to the background band",
    };
    match result.background {
        Some(name) => follow(client, &name, done).await,
        None => view::line(format!("{} {done}{names}", view::job_count(result.changed))),
    }
}

/// How often the progress of an action is asked for.
const ASK_EVERY: Duration = Duration::from_secs(1);

/// Follows an action in the background to its end. Interrupted, it goes on.
async fn follow(client: &Client, name: &str, done: &str) -> Result<(), Error> {
    eprintln!(
        "The service goes on when this command is interrupted. To stop it: pennine queue stop {name}"
    );
    loop {
        let progress = client.job_action(name).await?;
        if progress.state != BulkState::Running {
            return view::line(ended(&progress, done));
        }
        terminal::set_progress(|| handled(&progress));
        tokio::time::sleep(ASK_EVERY).await;
    }
}

fn handled(progress: &BulkProgress) -> String {
    match progress.found {
        None => format!("{}: looking the jobs up", progress.name),
        Some(found) => format!(
            "{}: {} of {} handled",
            progress.name,
            grouped(progress.handled),
            view::job_count(found)
        ),
    }
}

fn ended(progress: &BulkProgress, done: &str) -> String {
    let changed = view::job_count(progress.changed);
    match (progress.state, &progress.message) {
        (BulkState::Failed, Some(message)) => {
            format!(
                "{} failed: {message}. {changed} {done} before.",
                progress.name
            )
        }
        (BulkState::Stopped, _) => format!("{} was stopped: {changed} {done}", progress.name),
        _ => match progress.found.unwrap_or(0).saturating_sub(progress.changed) {
            0 => format!("{changed} {done}"),
            rest => format!(
                "{changed} {done}; {} had started or ended before",
                grouped(rest)
            ),
        },
    }
}

/// The latest actions on many jobs.
async fn actions(client: &Client, json: bool) -> Result<(), Error> {
    let listed = client.job_actions().await?;
    if json {
        return view::json(&listed);
    }
    if listed.items.is_empty() {
        return view::line("No actions on many jobs in the last 30 days.");
    }
    let now = client.status().await?.now;
    let rows = listed.items.iter().map(|one| {
        vec![
            one.name.clone(),
            what(&one.request),
            one.state.to_string(),
            one.found.map_or_else(|| "…".to_owned(), grouped),
            grouped(one.changed),
            view::ago(one.created_at, now),
            one.by.clone(),
        ]
    });
    let heads = ["name", "action", "state", "jobs", "changed", "begun", "by"];
    view::line(view::table(&heads, rows).trim_end())
}

/// An action with its conditions.
fn what(request: &BulkAction) -> String {
    let action = match request.action {
        Action::Cancel => "cancel",
        Action::Retry => "retry",
        Action::Urgent => "move urgent",
        Action::Normal => "move normal",
        Action::Background => "move background",
    };
    let reason = request.reason.map(|reason| reason.to_string());
    let conditions = [
        ("--reason", reason.as_ref()),
        ("--cause", request.cause.as_ref()),
        ("--project", request.project.as_ref()),
        ("--team", request.team.as_ref()),
        ("--where", request.requirement.as_ref()),
    ];
    let given = conditions.iter().filter_map(|(name, value)| {
        let value = (*value)?;
        Some(format!(" {name} {value}"))
    });
    action.to_owned() + &given.collect::<String>()
}

async fn stop(client: &Client, json: bool, name: &str) -> Result<(), Error> {
    let stopped = client.stop_job_action(name).await?;
    if json {
        return view::json(&stopped);
    }
    view::line(ended(&stopped, "changed"))
}

/// Which part of the queue to show.
#[derive(Args)]
pub struct QueueArguments {
    /// Only jobs that wait for this reason, such as no-match; lists all of their requirements.
    #[arg(long, value_parser = view::word::<Reason>)]
    reason: Option<Reason>,
    /// Only jobs for which this is missing: pools, seats or a team, as the overview names them.
    #[arg(long, requires = "reason")]
    cause: Option<String>,
    /// Only jobs of this project.
    #[arg(long)]
    project: Option<String>,
    /// Only jobs of this team and the teams below it.
    #[arg(long, conflicts_with = "project")]
    team: Option<String>,
    /// Only jobs with an equivalent requirement.
    #[arg(long = "where", value_name = "REQUIREMENT")]
    requirement: Option<String>,
    /// The most lines to list of a reason: 1 to 100.
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=100))]
    limit: u32,
    /// List what follows this; the end of a list names it.
    #[arg(long, requires = "reason")]
    after: Option<String>,
}

/// The waiting jobs, by reason.
pub async fn run(
    client: &Client,
    json: bool,
    watch: bool,
    which: QueueArguments,
) -> Result<(), Error> {
    let filter = QueueFilter {
        reason: which.reason,
        cause: which.cause,
        project: which.project,
        team: which.team,
        requirement: which.requirement,
        after: which.after,
        limit: Some(which.limit),
    };
    if json {
        return view::json(&client.queue(&filter).await?);
    }
    view::watch(watch, || async {
        Ok(text(&client.queue(&filter).await?, &filter))
    })
    .await
}

/// Strands up to which each is shown with all that is known of it.
const DETAILED: usize = 8;
/// Groups that a screen holds where there are more strands than that.
const GROUPS: usize = 7;
/// Strands that it holds, together, in brief.
const BRIEF: usize = 8;

fn text(queue: &Queue, filter: &QueueFilter) -> String {
    if queue.groups.is_empty() {
        return match queue.waiting {
            0 => "Nothing waits.\n".to_owned(),
            _ => "The list ends here.\n".to_owned(),
        };
    }
    let groups = &queue.groups;
    let listed: usize = groups.iter().map(|group| group.strands.len()).sum();
    let is_detailed = listed <= DETAILED;
    let is_list = filter.reason.is_some();
    let shown = if is_detailed || is_list {
        groups.len()
    } else {
        GROUPS.min(groups.len())
    };
    let mut text = String::new();
    for group in groups.iter().take(shown) {
        text += &heading(group);
        let strands = match (is_detailed, is_list) {
            (true, _) | (_, true) => group.strands.len(),
            _ => (BRIEF / shown).max(1).min(group.strands.len()),
        };
        for (place, strand) in group.strands.iter().take(strands).enumerate() {
            text += &view::wrapped(&format!("  {} × ", grouped(strand.jobs)), &wanted(strand));
            // What somebody has to do is said at least once for each group.
            if is_detailed || (!is_list && place == 0 && group.needs_a_person) {
                text += &details(strand, group.needs_a_person);
            } else if !is_list {
                text += &format!("      first: {0} (pennine why {0})\n", strand.first);
            }
        }
        let rest = group.strand_count.saturating_sub(strands as u64);
        if rest > 0 && !is_list {
            let message = match rest {
                1 => "and 1 more requirement or project".to_owned(),
                n => format!("and {} more requirements or projects", grouped(n)),
            };
            text += &view::command("  ", &message, &listing(group));
        }
        for action in &group.actions {
            text += &view::command("  ", &action.message, &action.command);
        }
    }
    let hidden = (groups.len() - shown) as u64 + queue.more_groups;
    if hidden > 0 {
        let all: u64 = groups.iter().take(shown).map(|group| group.jobs).sum();
        let left = view::job_count(queue.waiting.saturating_sub(all));
        text += &format!(
            "\n{left} wait for {hidden} other reasons. Narrow the list with --project, --team, --where or --reason.\n"
        );
    }
    if let Some(next) = &queue.next {
        let message = "More: repeat the command with";
        text += &view::command("", message, &format!("--after {next}"));
    }
    text
}

fn heading(group: &QueueGroup) -> String {
    let cause = match group.cause.as_str() {
        "" => String::new(),
        cause => format!(": {cause}"),
    };
    let person = match group.needs_a_person {
        true => ", needs your attention",
        false => "",
    };
    let strands = match group.strand_count {
        0..=1 => String::new(),
        n => format!(" in {} strands", grouped(n)),
    };
    format!(
        "{}{cause} ({}{strands}, longest {}{person})\n",
        group.reason,
        view::job_count(group.jobs),
        view::length(group.longest_us)
    )
}

/// The command that lists a group.
fn listing(group: &QueueGroup) -> String {
    let command = format!("pennine queue --reason {}", group.reason);
    match group.cause.as_str() {
        "" => command,
        cause => match shlex::try_quote(cause) {
            Ok(cause) => format!("{command} --cause {cause}"),
            Err(_) => command,
        },
    }
}

fn wanted(strand: &QueueStrand) -> String {
    let wants = match strand.requirement.as_str() {
        "" => "any runner",
        requirement => requirement,
    };
    format!(
        "{}{}{} wants {}{}: {}",
        strand.project,
        match strand.trust.is_trusted() {
            true => "",
            false => " (untrusted)",
        },
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
    )
}

/// What may help, and the first job.
fn details(strand: &QueueStrand, needs_a_person: bool) -> String {
    let mut text = String::new();
    for hint in &strand.hints {
        text += &view::wrapped("      ", &hint.describe());
    }
    if let Some(remedy) = strand.remedy.as_ref().filter(|_| needs_a_person) {
        text += &view::wrapped("      ", &remedy.message);
    }
    for action in &strand.actions {
        text += &view::command("      ", &action.message, &action.command);
    }
    text + &format!("      first: {0} (pennine why {0})\n", strand.first)
}
