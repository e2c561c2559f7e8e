//! `pennine why JOB`.

use crate::error::Error;
use crate::view;
use pennine_client::Client;

/// Why a job waits, and what would run it.
pub async fn run(client: &Client, json: bool, job: &str) -> Result<(), Error> {
    let why = client.why(job).await?;
    if json {
        return view::json(&why);
    }
    let mut text = format!("{}\n", why.message);
    if why.before > 0 {
        let jobs = if why.before == 1 {
            "1 job of the same strand is".to_owned()
        } else {
            format!("{} jobs of the same strand are", why.before)
        };
        text += &format!("{jobs} ahead of it.\n");
    }
    if let Some(remedy) = &why.remedy {
        text += &format!("To do: {}\n", remedy.message);
    }
    for action in &why.actions {
        text += &view::command("  ", &action.message, &action.command);
    }
    if !why.explanation.clauses.is_empty() {
        let runners = why.explanation.runners;
        text += "\n";
        text += &view::table(
            &["clause", "failing runners", "of"],
            why.explanation.clauses.iter().map(|clause| {
                vec![
                    clause.clause.clone(),
                    clause.failing.to_string(),
                    runners.to_string(),
                ]
            }),
        );
    }
    if !why.waiting.is_empty() {
        text += "\n";
        text += &view::table(
            &["reason", "for"],
            why.waiting
                .iter()
                .map(|span| vec![span.reason.to_string(), view::length(span.length_us)]),
        );
    }
    view::print(&text)
}
