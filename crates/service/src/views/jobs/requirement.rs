//! Trying a requirement against the yard before anyone submits.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::visible_yard::VisibleYard;
use crate::yard::{Yard, shown_state};
use pennine_core::dispatch::{Availability, Origin, SeatNeeds};
use pennine_core::requirement::{Requirement, explain, hints};
use pennine_wire::{NewTrial, Trial, TrialRunner};
use std::cmp::Reverse;

/// Runners named in an answer.
const NAMED: usize = 50;

/// Try a requirement: which runners satisfy it, which of them could take a job now, and which clause excludes the rest.
pub async fn try_out(app: &App, who: &Principal, new: NewTrial) -> Result<Trial> {
    let requirement: Requirement = new
        .requirement
        .parse()
        .map_err(|e| ServiceError::requirement("where", e))?;
    let mut connection = app.store.people().await?;
    let project = match &new.project {
        Some(text) => Some(
            views::people::place::find(&mut connection, &who.sees, &["project"], "project", text)
                .await
                .map_err(|failure| failure.field("project"))?
                .path,
        ),
        None => None,
    };
    let whole = Yard::read(&mut connection, app.clock.now()).await?;
    let visible = VisibleYard::of(&whole, who);
    let standing = match &project {
        Some(path) => {
            visible.standing(&requirement, Origin::trusted(path), &SeatNeeds::new(), None)
        }
        None => visible.standing_of_anybody(&requirement),
    };
    let yard = &visible.seen;
    let joined: Vec<_> = yard
        .joined()
        .map(|(runner, _)| (runner.name.as_str(), &runner.subject))
        .collect();
    let explanation = explain(&requirement, joined);
    let hints = hints(
        &requirement,
        yard.joined().map(|(runner, _)| &runner.subject),
    );
    let mut runners: Vec<TrialRunner> = yard
        .joined()
        .filter(|(view, pool)| pool.admits(&requirement, &view.subject))
        .filter_map(|(view, pool)| {
            let row = yard.runners.iter().find(|row| row.id.0 == view.id)?;
            let in_reach = project
                .as_deref()
                .is_none_or(|path| pool.reaches(Origin::trusted(path)));
            let free = match pool.willingness(view) {
                Availability::Takes if in_reach => row.slots().saturating_sub(row.used()),
                _ => 0,
            };
            Some(TrialRunner {
                runner: view.name.clone(),
                pool: pool.name.clone(),
                state: match (in_reach, pool.paused) {
                    (false, _) => "out of reach".to_owned(),
                    (true, true) => "pool paused".to_owned(),
                    (true, false) => shown_state(row).to_string(),
                },
                free,
            })
        })
        .collect();
    runners.sort_by_key(|runner| (Reverse(runner.free), runner.runner.clone()));
    let free: u32 = runners.iter().map(|runner| runner.free).sum();
    runners.truncate(NAMED);
    let message = match (standing.satisfying, free) {
        (0, _) => "No runner satisfies it: a job would wait indefinitely.".to_owned(),
        (_, 0) => {
            let message = standing.describe(standing.reason());
            format!("A job would wait now: {message}.")
        }
        (n, free) => {
            let (s, verb) = if n == 1 {
                ("", "satisfies")
            } else {
                ("s", "satisfy")
            };
            format!("{n} runner{s} {verb} it; a job would start now, on one of {free} free slots.")
        }
    };
    Ok(Trial {
        requirement: requirement.to_string(),
        message,
        standing,
        explanation,
        hints,
        runners,
    })
}
