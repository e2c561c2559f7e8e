//! `pennine target`.

use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::{Args, Subcommand};
use pennine_client::Client;
use pennine_core::measure::rank::PerMille;
use pennine_core::time::Micros;
use pennine_wire::{NewTarget, Target, TargetChange};

#[derive(Subcommand)]
pub enum Verb {
    /// List the targets, their error budgets, and when they will be missed at the rate of the last hour.
    List,
    /// Add a target for the waits on a pool, of a team or project, or of all jobs.
    Add {
        /// Its name.
        name: String,
        #[command(flatten)]
        of: TargetScope,
        /// The share of jobs, in percent: 50 to 99.9.
        #[arg(long, value_name = "PERCENT", default_value = "95")]
        share: PerMille,
        /// The longest wait: 60s, 10m, 2h.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        within: Micros,
        /// The window in days: 1 to 90.
        #[arg(long, default_value_t = 7)]
        days: u32,
    },
    /// Change a target.
    Set {
        /// Its name.
        name: String,
        /// The share of jobs, in percent: 50 to 99.9.
        #[arg(long, value_name = "PERCENT")]
        share: Option<PerMille>,
        /// The longest wait: 60s, 10m, 2h.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        within: Option<Micros>,
        /// The window in days: 1 to 90.
        #[arg(long)]
        days: Option<u32>,
    },
    /// Remove a target.
    Remove {
        /// Its name.
        name: String,
    },
}

#[derive(Args)]
#[group(multiple = false)]
pub struct TargetScope {
    /// Only waits of jobs on this pool.
    #[arg(long)]
    pool: Option<String>,
    /// Only waits of jobs of this team and the teams below it.
    #[arg(long)]
    team: Option<String>,
    /// Only waits of this project's jobs.
    #[arg(long)]
    project: Option<String>,
}

/// `pennine target`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    let target = match verb {
        Verb::List => {
            let targets = client.targets().await?;
            if json {
                return view::json(&targets);
            }
            if targets.items.is_empty() {
                return view::line(
                    "No targets yet. Add one with: pennine target add NAME --pool POOL --within TIME",
                );
            }
            return view::print(&table(&targets.items));
        }
        Verb::Add {
            name,
            of,
            share,
            within,
            days,
        } => {
            let new = NewTarget {
                name,
                pool: of.pool,
                place: of.team.or(of.project),
                share,
                within_us: within,
                days,
            };
            client.add_target(&new).await?
        }
        Verb::Set {
            name,
            share,
            within,
            days,
        } => {
            let change = TargetChange {
                share,
                within_us: within,
                days,
            };
            let target = client.change_target(&name, &change).await?;
            yard::remind(client, ThingKind::Target, &name).await;
            target
        }
        Verb::Remove { name } => {
            client.remove_target(&name).await?;
            yard::remind(client, ThingKind::Target, &name).await;
            return view::line(format!("Removed the target {name}."));
        }
    };
    if json {
        return view::json(&target);
    }
    view::line(format!(
        "{}: {}: {}.\n{}",
        target.name,
        whose(&target),
        target.message,
        target.standing.message
    ))
}

fn whose(target: &Target) -> String {
    match (&target.pool, &target.place) {
        (Some(pool), _) => format!("pool {pool}"),
        (_, Some(place)) => place.clone(),
        _ => "all jobs".to_owned(),
    }
}

fn table(targets: &[Target]) -> String {
    let rows = targets.iter().map(|target| {
        let standing = &target.standing;
        let window = &standing.window;
        let kept = match window.decided() {
            0 => "-".to_owned(),
            all => format!("{:.1} %", window.kept as f64 * 100.0 / all as f64),
        };
        let burn = standing.burn.map_or_else(
            || "-".to_owned(),
            |burn| format!("{:.1}", burn as f64 / 1e3),
        );
        vec![
            target.name.clone(),
            whose(target),
            target.message.clone(),
            standing.state.word().to_owned(),
            kept,
            format!("{} ({})", window.late, standing.allowed),
            burn,
            standing
                .missed_in_us
                .map_or_else(|| "-".to_owned(), view::length),
        ]
    });
    let heads = [
        "target",
        "scope",
        "objective",
        "state",
        "in time",
        "late (allowed)",
        "burn rate",
        "budget lasts",
    ];
    view::table(&heads, rows)
}
