//! `pennine maintenance`.

use crate::error::Error;
use crate::view;
use clap::{ArgGroup, Subcommand};
use pennine_client::Client;
use pennine_core::time::{Moment, spoken};
use pennine_wire::{Maintenance, NewMaintenance};
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// List current and scheduled maintenance.
    List,
    /// Schedule a period in which a pool or a runner accepts no jobs. Running jobs continue.
    #[command(group(ArgGroup::new("of").required(true).args(["pool", "runner"])))]
    Add {
        /// The pool.
        #[arg(long)]
        pool: Option<String>,
        /// The runner.
        #[arg(long)]
        runner: Option<String>,
        /// When it begins: 2026-11-24T06:00Z, or from now (90m, 2h) [default: now]
        #[arg(long, value_name = "WHEN", value_parser = when)]
        from: Option<TimeArgument>,
        /// How long it lasts: 90m, 2h.
        #[arg(long = "for", value_name = "TIME", value_parser = view::time)]
        length: Duration,
        /// The reason, shown to the owners of waiting jobs.
        #[arg(long, value_name = "TEXT")]
        why: String,
    },
    /// End or cancel maintenance.
    End {
        /// Its short name (m-3).
        name: String,
    },
}

/// A point in time, or so long from now.
#[derive(Clone, Copy, Debug)]
pub enum TimeArgument {
    At(Moment),
    In(Duration),
}

fn when(text: &str) -> Result<TimeArgument, String> {
    if let Ok(length) = view::time(text) {
        return Ok(TimeArgument::In(length));
    }
    // Minutes are enough for people; the standard wants seconds.
    let whole = |text: &str| text.parse::<jiff::Timestamp>().ok();
    let with_seconds = text.strip_suffix('Z').map(|text| format!("{text}:00Z"));
    let at = whole(text).or_else(|| with_seconds.as_deref().and_then(whole));
    at.map(|at| TimeArgument::At(Moment::from_micros(at.as_microsecond())))
        .ok_or_else(|| "use a time such as 2026-11-24T06:00Z, or a length such as 2h".to_owned())
}

/// `pennine maintenance`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List => {
            let all = client.maintenance().await?;
            if json {
                return view::json(&all);
            }
            if all.items.is_empty() {
                return view::line(
                    "No maintenance is scheduled. Schedule it with: pennine maintenance add --runner NAME --for 2h --why TEXT",
                );
            }
            let now = client.status().await?.now;
            view::print(&view::table(
                &["maintenance", "of", "when", "until", "why", "by"],
                all.items.iter().map(|one| line(one, now)),
            ))
        }
        Verb::Add {
            pool,
            runner,
            from,
            length,
            why,
        } => {
            let now = client.status().await?.now;
            let new = NewMaintenance {
                pool,
                runner,
                from: from.map(|from| match from {
                    TimeArgument::At(at) => at,
                    TimeArgument::In(length) => now + length,
                }),
                length_us: length.into(),
                reason: why,
            };
            let made = client.add_maintenance(&new).await?;
            if json {
                return view::json(&made);
            }
            let begins = if made.on {
                "accepts no jobs from now on".to_owned()
            } else {
                format!(
                    "accepts no jobs from {} (in {})",
                    made.from,
                    spoken(made.from.since(now))
                )
            };
            view::line(format!(
                "{}: {} {begins} until {}. Running jobs continue. End it early with: pennine maintenance end {0}",
                made.name,
                of(&made),
                made.until
            ))
        }
        Verb::End { name } => {
            client.end_maintenance(&name).await?;
            if json {
                return view::json(&serde_json::json!({"ended": name}));
            }
            view::line(format!("{name} has ended."))
        }
    }
}

fn of(one: &Maintenance) -> String {
    match (&one.pool, &one.runner) {
        (Some(pool), _) => format!("the pool {pool}"),
        (_, Some(runner)) => runner.clone(),
        _ => String::new(),
    }
}

fn line(one: &Maintenance, now: Moment) -> Vec<String> {
    let begins = if one.on {
        "now".to_owned()
    } else {
        format!("in {}", spoken(one.from.since(now)))
    };
    vec![
        one.name.clone(),
        of(one),
        begins,
        format!("in {}", spoken(one.until.since(now))),
        view::cut(&one.reason, 36),
        one.by.clone(),
    ]
}
