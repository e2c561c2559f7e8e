//! `pennine alert`.

use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::Moment;
use pennine_wire::Alert;

#[derive(Subcommand)]
pub enum Verb {
    /// List what somebody should look at: what is urgent first, with what to do.
    List {
        /// Those that are over too, the latest first.
        #[arg(long)]
        all: bool,
    },
    /// Say that you look at an alert: others see it, and it is shown more quietly.
    See {
        /// Its short name: a-12.
        name: String,
    },
}

/// `pennine alert`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Trouble> {
    match verb {
        Verb::List { all } => {
            let alerts = client.alerts(all).await?;
            if json {
                return view::json(&alerts);
            }
            if alerts.items.is_empty() {
                return view::line("There is no alert: nothing needs anybody.");
            }
            let now = client.status().await?.now;
            view::print(&lines(&alerts.items, now))
        }
        Verb::See { name } => {
            let alert = client.see_alert(&name).await?;
            if json {
                return view::json(&alert);
            }
            let by = alert.seen_by.unwrap_or_default();
            view::line(format!("{} is looked at by {by}.", alert.name))
        }
    }
}

/// Alerts as people read them: what is so, and below it since when, who looks at it, and what to do.
pub fn lines(alerts: &[Alert], now: Moment) -> String {
    let mut text = String::new();
    for alert in alerts {
        let mark = if alert.urgent { "!" } else { "-" };
        let lead = format!("{mark} {:5} ", alert.name);
        text += &view::wrapped(&lead, &alert.said);
        let mut more = Vec::new();
        if alert.ended_at.is_none() {
            more.push(format!(
                "for {}",
                view::length(now.since(alert.since).into())
            ));
        }
        match (alert.state, alert.ended_at) {
            (_, Some(ended)) => more.push(format!("over {}", view::ago(ended, now))),
            (AlertState::Settling, _) => more.push("not so for the moment".to_owned()),
            _ => {}
        }
        if let Some(by) = &alert.seen_by {
            more.push(format!("{by} looks at it"));
        }
        if alert.ended_at.is_none() && !alert.about.mend.is_empty() {
            more.push(alert.about.mend.clone());
        }
        text += &view::wrapped(&" ".repeat(lead.len()), &more.join("; "));
    }
    text
}
