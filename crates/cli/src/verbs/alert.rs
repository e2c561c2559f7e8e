//! `pennine alert`.

use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::{THRESHOLDS, ThingKind};
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::alert::{AlertKind, Thresholds};
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::{Micros, Moment};
use pennine_wire::{Alert, ThresholdsChange};

#[derive(Subcommand)]
pub enum Verb {
    /// List the open alerts with their remedies, urgent ones first.
    List {
        /// Include past alerts, latest first.
        #[arg(long)]
        all: bool,
    },
    /// Acknowledge an alert: others see it, and it is shown less prominently.
    Acknowledge {
        /// Its short name: a-12.
        name: String,
    },
    /// Show or change the thresholds of delayed alerts.
    Thresholds {
        /// How long jobs wait for a requirement that no runner and no pool can satisfy.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        no_match: Option<Micros>,
        /// How long a supplier fails.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        supplier: Option<Micros>,
        /// How long jobs wait while a pool is at its ceiling.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        ceiling: Option<Micros>,
        /// How long runners have had no job.
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        idle: Option<Micros>,
        /// Which part of its budget a pool has spent, in percent.
        #[arg(long, value_name = "PERCENT")]
        budget: Option<u32>,
    },
}

/// `pennine alert`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List { all } => {
            let alerts = client.alerts(all).await?;
            if json {
                return view::json(&alerts);
            }
            if alerts.items.is_empty() {
                return view::line("No open alerts.");
            }
            let now = client.status().await?.now;
            view::print(&lines(&alerts.items, now))
        }
        Verb::Acknowledge { name } => {
            let alert = client.acknowledge_alert(&name).await?;
            if json {
                return view::json(&alert);
            }
            let by = alert.acknowledged_by.unwrap_or_default();
            view::line(format!("{} is acknowledged by {by}.", alert.name))
        }
        Verb::Thresholds {
            no_match,
            supplier,
            ceiling,
            idle,
            budget,
        } => {
            let change = ThresholdsChange {
                no_match_us: no_match,
                supplier_us: supplier,
                ceiling_us: ceiling,
                idle_us: idle,
                budget_percent: budget,
            };
            let thresholds = if change.is_empty() {
                client.thresholds().await?
            } else {
                let changed = client.change_thresholds(&change).await?;
                yard::remind(client, ThingKind::Alerts, THRESHOLDS).await;
                changed
            };
            if json {
                return view::json(&thresholds);
            }
            view::print(&describe(&thresholds.thresholds))
        }
    }
}

fn describe(thresholds: &Thresholds) -> String {
    let after = |kind: AlertKind, micros: Micros| (kind, format!("after {}", view::exact(micros)));
    let budget = format!("at {} % of the budget", thresholds.budget_percent);
    let rows = [
        after(AlertKind::NoMatch, thresholds.no_match_us),
        after(AlertKind::SupplierFailing, thresholds.supplier_us),
        after(AlertKind::PoolFull, thresholds.ceiling_us),
        after(AlertKind::MachinesIdle, thresholds.idle_us),
        (AlertKind::BudgetNear, budget),
    ];
    let rows = rows.map(|(kind, when)| vec![kind.to_string(), when]);
    view::table(&["alert", "raised"], rows)
}

/// Alerts as people read them: what is so, and below it since when, who looks at it, and what to do.
pub fn lines(alerts: &[Alert], now: Moment) -> String {
    let mut text = String::new();
    for alert in alerts {
        let mark = if alert.urgent { "!" } else { "-" };
        let lead = format!("{mark} {:5} ", alert.name);
        text += &view::wrapped(&lead, &alert.message);
        let mut more = Vec::new();
        if alert.ended_at.is_none() {
            more.push(format!(
                "for {}",
                view::length(now.since(alert.since).into())
            ));
        }
        match (alert.state, alert.ended_at) {
            (_, Some(ended)) => more.push(format!("over {}", view::ago(ended, now))),
            (AlertState::Clearing, _) => more.push("not true at the moment".to_owned()),
            _ => {}
        }
        if let Some(by) = &alert.acknowledged_by {
            more.push(format!("acknowledged by {by}"));
        }
        if alert.ended_at.is_none() && !alert.about.remedy.is_empty() {
            more.push(alert.about.remedy.clone());
        }
        text += &view::wrapped(&" ".repeat(lead.len()), &more.join("; "));
    }
    text
}
