//! Why a job waits.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::jobs::job::{JobContext, find, waiting_spans, waits};
use crate::visible_yard::VisibleYard;
use crate::yard::Yard;
use pennine_core::access::{Action, Role, place_name};
use pennine_core::dispatch::{EligibilityCounts, Origin, Reason, Remedy};
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_core::lifecycle::job::JobState;
use pennine_core::requirement::{Explanation, Requirement, explain};
use pennine_core::time::spoken;
use pennine_store::pool::OwnedPool;
use pennine_store::{Connection, job, line, person, strand};
use pennine_wire::{JobLine, WaitExplanation};

/// Why a job waits, and what would run it.
pub async fn why(app: &App, who: &Principal, text: &str) -> Result<WaitExplanation> {
    let mut connection = app.store.people().await?;
    let row = find(&mut connection, who, text).await?;
    let requirement: Requirement = row
        .requirement
        .parse()
        .map_err(|e| ServiceError::requirement("where", e))?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let yard = VisibleYard::of(&yard, who);
    let strand = strand::get(&mut connection, &[row.strand_id.0]).await?;
    let strand = strand.into_iter().next();
    let approved_in = strand
        .map(|strand| strand.key.0.approved_in)
        .unwrap_or_default();
    let origin = Origin {
        project: &row.project,
        trust: row.trust.0,
        approved_in: &approved_in,
    };
    let standing = yard.standing(&requirement, origin, &row.seats.0, Some(row.number));
    let around = JobContext::read(&mut connection, std::slice::from_ref(&row)).await?;
    let now = app.clock.now();
    let line = around.line(&row, now);
    let joined: Vec<_> = yard
        .seen
        .joined()
        .map(|(runner, _)| (runner.name.as_str(), &runner.subject))
        .collect();
    let explanation = explain(&requirement, joined);
    let before = if waits(&row) {
        line::before(&mut connection, &row).await?
    } else {
        0
    };
    let message = sentence(&row, &line, &around, &explanation, &standing);
    let mut remedy = line
        .reason
        .and_then(|reason| Remedy::of(reason, &row.requirement, origin.trust));
    if line.reason == Some(Reason::NeedsApproval) {
        let message =
            ask_for_approval(&mut connection, &standing, yard.seen.pools.as_slice()).await?;
        remedy = Some(Remedy { message });
    }
    let actions = line.reason.map_or_else(Vec::new, |reason| {
        let wait = views::jobs::remedies::Wait {
            reason,
            standing: &standing,
            origin,
            requirement: &row.requirement,
            jobs: 1,
            job: Some(&line.name),
        };
        views::jobs::remedies::actions(&wait, &yard)
    });
    Ok(WaitExplanation {
        actions,
        job: line.name,
        project: row.project.clone(),
        requirement: row.requirement.clone(),
        state: row.state.0,
        reason: line.reason,
        message,
        standing,
        explanation,
        remedy,
        before: before.max(0).unsigned_abs(),
        waited_us: line.wait_us,
        waiting: waiting_spans(&mut connection, &row, now).await?,
    })
}

/// People named at most.
const NAMED: i64 = 5;

/// Says whom to ask for approval, of the pools that ask for it.
async fn ask_for_approval(
    connection: &mut Connection,
    standing: &EligibilityCounts,
    pools: &[OwnedPool],
) -> Result<String> {
    let mut sentences = Vec::new();
    for name in &standing.awaiting_approval {
        let Some(pool) = pools.iter().find(|pool| pool.pool.name == *name) else {
            continue;
        };
        let role = Action::ApproveUse.role();
        let roles: Vec<Role> = Role::ALL
            .iter()
            .copied()
            .filter(|one| *one >= role)
            .collect();
        let people = person::with_role_at(connection, &roles, &pool.owner, NAMED).await?;
        let who = match people.as_slice() {
            [] => String::new(),
            people => format!(" ({})", people.join(", ")),
        };
        sentences.push(format!(
            "Ask an {role} of {}{who} to approve the project, or this job, in {name}.",
            place_name(&pool.owner)
        ));
    }
    Ok(sentences.join(" "))
}

fn sentence(
    row: &job::Job,
    line: &JobLine,
    around: &JobContext,
    explanation: &Explanation,
    standing: &EligibilityCounts,
) -> String {
    let name = &line.name;
    let waited = spoken(line.wait_us.into());
    let attempts = around
        .attempts
        .get(&row.id.0)
        .map(Vec::as_slice)
        .unwrap_or_default();
    let runner = attempts
        .last()
        .map_or("its runner", |one| one.runner.as_str());
    let lost = attempts
        .iter()
        .filter(|one| one.state.0 == AttemptState::Done && !one.accepted)
        .count();
    let again = match lost {
        0 => String::new(),
        1 => " An earlier attempt was lost.".to_owned(),
        n => format!(" {n} earlier attempts were lost."),
    };
    match (row.state.0, line.reason) {
        (JobState::Pending, Some(Reason::Handover)) if attempts.is_empty() || waits(row) => {
            format!("{name} was just submitted and is being matched.{again}")
        }
        (JobState::Pending, Some(Reason::Handover)) => {
            format!("{name} is assigned to {runner}, which is about to start it.{again}")
        }
        (JobState::Pending, Some(reason)) => {
            let mut message = format!("{name} has waited {waited}: {}.", standing.describe(reason));
            if reason == Reason::NoMatch {
                if let Some(near) = &explanation.nearest {
                    message += &format!(
                        " The nearest runner is {}, which fails: {}.",
                        near.runner,
                        near.fails.join("; ")
                    );
                } else if explanation.runners == 0 {
                    message += " No machines have joined yet.";
                }
                for hint in &explanation.hints {
                    let mut hint = hint.describe();
                    if let Some(first) = hint.get(..1).map(str::to_uppercase) {
                        hint.replace_range(..1, &first);
                    }
                    message += &format!(" {hint}");
                    if !message.ends_with('?') {
                        message.push('.');
                    }
                }
            }
            message + again.as_str()
        }
        (JobState::Held, _) => format!("{name} is held until a person releases it."),
        (JobState::Executing | JobState::Finalizing, _) => {
            format!("{name} is not waiting: it runs on {runner}. It waited {waited}.{again}")
        }
        _ => {
            let result = row.result.map_or("no result", |result| result.word());
            format!("{name} is not waiting: it is done, with {result}. It waited {waited}.{again}")
        }
    }
}
