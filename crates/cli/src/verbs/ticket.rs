//! `pennine ticket`.

use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::time::Micros;
use pennine_wire::NewTicket;
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// Make a ticket for one machine, and show the command to run on it.
    Add {
        /// The pool that the machine will be in.
        #[arg(long)]
        pool: String,
        /// How long the ticket can be used.
        #[arg(long, value_name = "MINUTES", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=43_200))]
        minutes: u64,
    },
    /// List the tickets, newest first. Secrets are not shown again.
    List,
}

/// `pennine ticket`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Trouble> {
    match verb {
        Verb::Add { pool, minutes } => {
            let lifetime = Micros::from(Duration::from_secs(minutes * 60));
            let made = client
                .add_ticket(
                    &pool,
                    &NewTicket {
                        lifetime_us: Some(lifetime),
                    },
                )
                .await?;
            if json {
                return view::json(&made);
            }
            view::print(&format!(
                "Ticket {} for one machine in the pool {}, good for {} minutes. Run on the machine:\n\n  {} --work\n\nThen see it with: pennine runner show {}\n",
                made.ticket.name, made.ticket.pool, minutes, made.command, made.ticket.runner_name
            ))
        }
        Verb::List => {
            let tickets = client.tickets().await?;
            if json {
                return view::json(&tickets);
            }
            if tickets.items.is_empty() {
                return view::line(
                    "There is no ticket. Make one with: pennine ticket add --pool POOL",
                );
            }
            let rows = tickets.items.iter().map(|ticket| {
                vec![
                    ticket.name.clone(),
                    ticket.pool.clone(),
                    ticket.state.clone(),
                    ticket.runner_name.clone(),
                    ticket.expires_at.to_string(),
                ]
            });
            view::print(&view::table(
                &["ticket", "pool", "state", "runner", "expires"],
                rows,
            ))
        }
    }
}
