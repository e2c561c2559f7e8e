//! `pennine status`.

use super::alert;
use crate::error::Error;
use crate::view;
use pennine_client::Client;
use pennine_wire::{RunnerCounts, Status};

/// How things stand now.
pub async fn run(client: &Client, json: bool, watch: bool) -> Result<(), Error> {
    if json {
        return view::json(&client.status().await?);
    }
    view::watch(watch, || async { Ok(text(&client.status().await?)) }).await
}

/// Runners by state, those states that have any.
pub fn counts(counts: &RunnerCounts) -> String {
    let states = [
        (counts.available, "available"),
        (counts.busy, "busy"),
        (counts.draining, "draining"),
        (counts.paused, "paused"),
        (counts.offline, "offline"),
        (counts.awaited, "awaited"),
    ];
    let message: Vec<String> = states
        .iter()
        .filter(|(n, _)| *n > 0)
        .map(|(n, state)| format!("{n} {state}"))
        .collect();
    if message.is_empty() {
        "none".to_owned()
    } else {
        message.join(", ")
    }
}

fn text(status: &Status) -> String {
    let longest = status
        .longest_wait_us
        .map_or("none".to_owned(), view::length);
    let mut text = format!(
        "{}\nwaiting {}   executing {}   free {} of {} slots   longest wait {longest}\nrunners: {}\n",
        view::wrapped("", &status.answer),
        status.waiting,
        status.executing,
        status.free,
        status.slots,
        counts(&status.runners)
    );
    if !status.alerts.is_empty() {
        text += "\n";
        text += &alert::lines(&status.alerts, status.now);
    }
    if !status.latest.is_empty() {
        text += "\n";
        text += &view::jobs(&status.latest);
    }
    text
}
