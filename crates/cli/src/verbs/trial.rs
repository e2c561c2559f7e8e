//! `pennine where 'EXPR'`.

use crate::error::Error;
use crate::view;
use pennine_client::Client;
use pennine_wire::NewTrial;

/// Tries a requirement against the yard.
pub async fn run(
    client: &Client,
    json: bool,
    requirement: String,
    project: Option<String>,
) -> Result<(), Error> {
    let new = NewTrial {
        requirement: requirement.clone(),
        project,
    };
    let trial = client
        .try_requirement(&new)
        .await
        .map_err(|error| match error.problem() {
            Some(problem) if problem.column.is_some() => Error::Requirement(error, requirement),
            _ => Error::Client(error),
        })?;
    if json {
        return view::json(&trial);
    }
    let mut text = format!("{}\n", trial.message);
    for hint in &trial.hints {
        text += &format!("  {}\n", hint.describe());
    }
    let runners = trial.explanation.runners;
    if !trial.explanation.clauses.is_empty() && runners > 0 {
        text += "\n";
        text += &view::table(
            &["clause", "failing runners", "of"],
            trial.explanation.clauses.iter().map(|clause| {
                vec![
                    clause.clause.clone(),
                    clause.failing.to_string(),
                    runners.to_string(),
                ]
            }),
        );
    }
    if let Some(near) = trial
        .explanation
        .nearest
        .as_ref()
        .filter(|_| trial.standing.satisfying == 0)
    {
        text += &format!(
            "\nNearest runner: {}, which fails only: {}\n",
            near.runner,
            near.fails.join(", ")
        );
    }
    if !trial.runners.is_empty() {
        text += "\n";
        text += &view::table(
            &["runner", "pool", "state", "free"],
            trial.runners.iter().map(|runner| {
                vec![
                    runner.runner.clone(),
                    runner.pool.clone(),
                    runner.state.clone(),
                    runner.free.to_string(),
                ]
            }),
        );
    }
    view::print(&text)
}
