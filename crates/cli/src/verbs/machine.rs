//! `pennine machine`.

use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::time::{Moment, spoken};
use pennine_wire::{Machine, NewMachines, StopMachine};

#[derive(Subcommand)]
pub enum Verb {
    /// List the machines that exist.
    List {
        /// Only this pool.
        #[arg(long)]
        pool: Option<String>,
        /// Only machines in this state.
        #[arg(long, value_parser = view::word::<MachineState>)]
        state: Option<MachineState>,
        /// Include machines that are gone or have failed.
        #[arg(long, conflicts_with = "state")]
        all: bool,
        /// How many at most.
        #[arg(long, value_name = "N", default_value_t = 200)]
        limit: usize,
    },
    /// Show one machine, and its console output while booting.
    Show {
        /// Its short name (mc-12) or name.
        name: String,
        /// Print only the console output.
        #[arg(long)]
        console: bool,
    },
    /// Start machines of a pool by hand. They are released like others when they are not needed.
    Start {
        /// The pool.
        pool: String,
        /// How many.
        #[arg(long, value_name = "N", default_value_t = 1)]
        count: u32,
    },
    /// Stop a machine: it finishes its jobs and is removed.
    Stop {
        /// Its short name (mc-12) or name.
        name: String,
        /// End its jobs at once; they are retried elsewhere.
        #[arg(long)]
        force: bool,
    },
}

/// `pennine machine`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List {
            pool,
            state,
            all,
            limit,
        } => {
            let words: Vec<&str> = MachineState::ALL.iter().map(|one| one.word()).collect();
            let states = match (state, all) {
                (Some(state), _) => Some(state.to_string()),
                (None, true) => Some(words.join(",")),
                (None, false) => None,
            };
            let mut machines = Vec::new();
            let mut cursor = None;
            while machines.len() < limit {
                let page = client
                    .machines(pool.as_deref(), states.as_deref(), cursor.as_deref())
                    .await?;
                machines.extend(page.items);
                cursor = page.next;
                if cursor.is_none() {
                    break;
                }
            }
            machines.truncate(limit);
            if json {
                return view::json(&machines);
            }
            if machines.is_empty() {
                return view::line("No machines exist now; --all shows past ones.");
            }
            let now = client.status().await?.now;
            view::print(&table(&machines, now, &client.who().await?.currency))
        }
        Verb::Show { name, console } => {
            let machine = client.machine(&name).await?;
            if json {
                return view::json(&machine);
            }
            let printed = client.machine_console(&name).await?;
            if console {
                return view::print(&printed.text);
            }
            let now = client.status().await?.now;
            let mut text = shown(&machine, now, &client.who().await?.currency);
            if !printed.text.is_empty() {
                let kept = if printed.live {
                    ""
                } else {
                    " (stored when it was given up)"
                };
                text += &format!("\nWhat it printed{kept}:\n");
                let lines: Vec<&str> = printed.text.lines().collect();
                let from = lines.len().saturating_sub(20);
                for line in lines.get(from..).unwrap_or_default() {
                    text += &format!("  {line}\n");
                }
            }
            view::print(&text)
        }
        Verb::Start { pool, count } => {
            let new = NewMachines { count: Some(count) };
            let made = client.start_machines(&pool, &new).await?;
            if json {
                return view::json(&made);
            }
            let names: Vec<&str> = made.items.iter().map(|one| one.name.as_str()).collect();
            view::line(format!("Ordered {}.", names.join(", ")))
        }
        Verb::Stop { name, force } => {
            let stopped = client.stop_machine(&name, &StopMachine { force }).await?;
            if json {
                return view::json(&stopped);
            }
            view::line(match stopped.state {
                MachineState::Joined => format!(
                    "{} finishes its jobs and is then removed; --force ends them.",
                    stopped.name
                ),
                state => format!("{} is {state}.", stopped.name),
            })
        }
    }
}

/// Machines as a table.
fn table(machines: &[Machine], now: Moment, currency: &str) -> String {
    let cost = view::money_head("cost", currency);
    view::table(
        &["machine", "name", "state", "since", "why", "runner", &cost],
        machines.iter().map(|one| {
            vec![
                one.short.clone(),
                one.name.clone(),
                one.state.to_string(),
                view::ago(one.since, now),
                view::cut(&one.reason, 34),
                one.runner_short.clone(),
                one.cost.to_string(),
            ]
        }),
    )
}

fn shown(one: &Machine, now: Moment, currency: &str) -> String {
    let kind = if one.single_use {
        "single-use"
    } else {
        "standing"
    };
    let mut text = format!(
        "{} ({}), {kind}, of the pool {}, from {}\n  {} since {}: {}\n  its runner is {}\n",
        one.name,
        one.short,
        one.pool,
        one.supplier,
        one.state,
        view::ago(one.since, now),
        one.reason,
        one.runner_short
    );
    let after = |at: Option<Moment>| at.map(|at| spoken(at.since(one.ordered_at)));
    text += &format!(
        "  ordered {} by {}",
        view::ago(one.ordered_at, now),
        one.ordered_by
    );
    for (what, at) in [
        ("joined", one.joined_at),
        ("told to stop", one.released_at),
        ("ended", one.ended_at),
    ] {
        if let Some(after) = after(at) {
            text += &format!("; {what} after {after}");
        }
    }
    text += &format!("\n  cost {} so far\n", one.cost.in_currency(currency));
    if !one.reference.is_empty() {
        let zone = if one.zone.is_empty() {
            String::new()
        } else {
            format!(" in {}", one.zone)
        };
        text += &format!("  supplier reference {}{zone}\n", one.reference);
    }
    text
}
