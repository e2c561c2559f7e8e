//! `pennine queue`.

use crate::trouble::Trouble;
use crate::view;
use pennine_client::Client;
use pennine_wire::Queue;

/// The waiting jobs, by why they wait.
pub async fn run(client: &Client, json: bool, watch: bool) -> Result<(), Trouble> {
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
            ", needs a person"
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
                "  {} × {} wants {}: {}\n",
                strand.jobs, strand.project, wants, strand.said
            );
            for hint in &strand.hints {
                text += &format!("      {}\n", hint.said());
            }
            if let Some(mend) = strand.mend.as_ref().filter(|_| group.needs_a_person) {
                text += &format!("      {}\n", mend.said);
            }
            text += &format!(
                "      first: {} (pennine why {})\n",
                strand.first, strand.first
            );
        }
    }
    text
}
