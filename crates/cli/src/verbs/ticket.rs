//! `pennine ticket`.

use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::time::{Micros, spoken};
use pennine_wire::NewTicket;

#[derive(Subcommand)]
pub enum Verb {
    /// Add a ticket and show the command to run on the machine.
    Add {
        /// The pool that the machine joins.
        #[arg(long)]
        pool: String,
        /// How long it is valid: 30m, 1h, 2d [default: 1h]
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        valid_for: Option<Micros>,
        /// How many machines may join with it [default: 1]
        #[arg(long, value_name = "N")]
        uses: Option<u32>,
        /// Allowed names: a name in which * stands for anything.
        #[arg(long, value_name = "PATTERN")]
        names: Option<String>,
        /// A label for the machines that join; may be given several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// Another ticket, whose settings are used where none are given.
        #[arg(long, value_name = "TICKET")]
        like: Option<String>,
    },
    /// Revoke a ticket. Machines that have joined with it stay.
    Revoke {
        /// Its short name or id.
        ticket: String,
    },
    /// List the tickets, newest first. Secrets are not shown again.
    List,
}

/// `pennine ticket`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Add {
            pool,
            valid_for,
            uses,
            names,
            labels,
            like,
        } => {
            let new = NewTicket {
                lifetime_us: valid_for,
                uses,
                names,
                labels,
                like,
            };
            let made = client.add_ticket(&pool, &new).await?;
            if json {
                return view::json(&made);
            }
            let ticket = &made.ticket;
            let machines = match ticket.uses {
                1 => "one machine".to_owned(),
                uses => format!("{uses} machines"),
            };
            let named = match ticket.names.as_str() {
                "*" => String::new(),
                names => format!(" called {names}"),
            };
            let then = match &ticket.runner_name {
                Some(runner) => format!("pennine runner show {runner}"),
                None => "pennine runner list".to_owned(),
            };
            view::print(&format!(
                "Ticket {} for {machines}{named} in the pool {}, valid for {}. Run on the machine:\n\n  {} --work\n\n(as root, use --boot instead of --work to start it at boot), or where pennine-runner is already installed:\n\n  {} --work\n\nThen check it with: {then}\n",
                ticket.name,
                ticket.pool,
                spoken(ticket.expires_at.since(ticket.created_at)),
                made.install,
                made.command
            ))
        }
        Verb::Revoke { ticket } => {
            let revoked = client.revoke_ticket(&ticket).await?;
            if json {
                return view::json(&revoked);
            }
            let joined = match revoked.used {
                0 => "no machines have joined with it".to_owned(),
                used => format!(
                    "{used} of {} machines have joined with it and stay",
                    revoked.uses
                ),
            };
            view::line(format!("Revoked {}: {joined}.", revoked.name))
        }
        Verb::List => {
            let tickets = client.tickets().await?;
            if json {
                return view::json(&tickets);
            }
            if tickets.items.is_empty() {
                return view::line("No tickets. Add one with: pennine ticket add --pool POOL");
            }
            let now = client.status().await?.now;
            let rows = tickets.items.iter().map(|ticket| {
                vec![
                    ticket.name.clone(),
                    ticket.pool.clone(),
                    ticket.state.clone(),
                    format!("{} of {}", ticket.used, ticket.uses),
                    ticket.names.clone(),
                    ticket.labels.join(", "),
                    ticket.runner_name.clone().unwrap_or_default(),
                    match ticket.state.as_str() {
                        "open" | "expired" => view::due(ticket.expires_at, now),
                        _ => String::new(),
                    },
                ]
            });
            view::print(&view::table(
                &[
                    "ticket", "pool", "state", "used", "names", "labels", "runner", "expires",
                ],
                rows,
            ))
        }
    }
}
