//! Who loses what by a change of the yard: jobs that something could run before it, and nothing can after.

use crate::error::{Result, ServiceError};
use crate::yard::Yard;
use pennine_core::dispatch::Origin;
use pennine_core::requirement::Requirement;
use pennine_core::time::Moment;
use pennine_store::{Connection, strand};
use pennine_wire::Loss;
use std::cmp::Reverse;
use std::time::Duration;

/// Losses named in an answer.
const NAMED: usize = 100;

/// What was submitted in this time may be submitted again.
const RECENT: Duration = Duration::from_secs(30 * 86_400);

/// Jobs that a change would leave without a runner: waiting ones and those of the last 30 days.
pub async fn between(
    connection: &mut Connection,
    before: &Yard,
    after: &Yard,
    now: Moment,
) -> Result<Vec<Loss>> {
    let mut losses = Vec::new();
    for used in strand::used_since(connection, now - RECENT).await? {
        let key = &used.key.0;
        let Ok(requirement) = key.requirement.parse::<Requirement>() else {
            continue;
        };
        let origin = Origin {
            project: &used.project,
            trust: key.trust,
            approved_in: &key.approved_in,
        };
        let in_reach = |yard: &Yard| {
            let standing = yard.standing(&requirement, origin, &key.seats, None);
            standing.in_reach + standing.makers_in_reach
        };
        if in_reach(before) > 0 && in_reach(after) == 0 {
            losses.push(Loss {
                project: used.project,
                requirement: key.requirement.clone(),
                waiting: used.waiting.max(0).unsigned_abs(),
                recent: used.jobs.max(0).unsigned_abs(),
            });
        }
    }
    losses.sort_by_key(|loss| (Reverse(loss.waiting), Reverse(loss.recent)));
    losses.truncate(NAMED);
    Ok(losses)
}

/// Refuses a change of `what` that has losses.
pub fn refuse(losses: &[Loss], what: &str) -> Result<()> {
    let Some(first) = losses.first() else {
        return Ok(());
    };
    let waiting: u64 = losses.iter().map(|loss| loss.waiting).sum();
    let recent: u64 = losses.iter().map(|loss| loss.recent).sum();
    let message = format!(
        "only {what} can run {waiting} waiting jobs and {recent} of the last 30 days, such as those of {} with the requirement {:?}",
        first.project, first.requirement
    );
    let failure = ServiceError::conflict(
        "jobs-would-be-stranded",
        "Jobs would be left without a runner",
        message,
    );
    Err(failure.remedy("list them with preview, and repeat with accept_losses (--yes) to proceed"))
}
