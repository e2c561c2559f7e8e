//! Many jobs at once, by filter.

use crate::access::{Principal, Role};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::views;
use pennine_core::dispatch::{StrandKey, below};
use pennine_core::id::{JobId, RunId, ShortName, StrandId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::requirement::Requirement;
use pennine_store::job::{self, Cancelled, Job, NewJob};
use pennine_store::line::{self, TimelineSpan};
use pennine_store::{Connection, audit, strand};
use pennine_wire::{Action, BulkAction, BulkResult};
use serde_json::json;

/// Jobs changed by one request.
const AT_ONCE: usize = 500;

/// Jobs named in the answer.
const NAMED: usize = 20;

/// Cancel, retry or move many jobs at once. Jobs are selected by waiting reason, team or requirement, or listed by
/// name; at most 500 in one request.
pub async fn act(app: &App, who: &Principal, action: BulkAction) -> Result<BulkResult> {
    who.require(Role::Submitter)?;
    let unfiltered = action.reason.is_none()
        && action.project.is_none()
        && action.team.is_none()
        && action.requirement.is_none()
        && action.jobs.is_empty();
    if unfiltered {
        return Err(ServiceError::invalid(
            "action",
            "no jobs selected: give a reason, a team or project, a requirement, or the jobs",
        ));
    }
    let mut connection = app.store.get().await?;
    let (found, all) = find(&mut connection, &action).await?;
    let mut changed = Vec::new();
    if !action.preview {
        drop(connection);
        for row in &found {
            // Each with its audit row: what is done stays done where a later one fails.
            let one = commit(app, async |connection| {
                one(app, connection, who, action.action, row).await
            });
            changed.extend(one.await?);
        }
    }
    let count = |n: usize| u64::try_from(n).unwrap_or(u64::MAX);
    Ok(BulkResult {
        found: all,
        changed: count(changed.len()),
        more: !action.preview && all > count(found.len()),
        jobs: if action.preview {
            let rows = found.iter().take(NAMED);
            rows.map(|row| ShortName::Job.name(row.number)).collect()
        } else {
            changed.truncate(NAMED);
            changed
        },
    })
}

/// The jobs that the filter means and to which the action can be done: the oldest of them, and how many there are.
async fn find(connection: &mut Connection, action: &BulkAction) -> Result<(Vec<Job>, u64)> {
    let wanted = match &action.requirement {
        None => None,
        Some(text) => Some(
            text.parse::<Requirement>()
                .map_err(|e| ServiceError::requirement("where", e))?,
        ),
    };
    let place = views::people::place::path(
        connection,
        action.project.as_deref(),
        action.team.as_deref(),
    )
    .await?;
    if !action.jobs.is_empty() {
        return named(connection, action, place.as_deref(), wanted.as_ref()).await;
    }
    let most = i64::try_from(AT_ONCE).unwrap_or(i64::MAX);
    let found = if action.action == Action::Retry {
        let wanted = wanted.as_ref().map(ToString::to_string);
        job::failed(connection, place.as_deref(), wanted.as_deref(), most).await?
    } else {
        let stretches = waiting(connection, action, place.as_deref(), wanted.as_ref()).await?;
        line::find(connection, &stretches, most).await?
    };
    let rows = job::with_ids(connection, &found.ids).await?;
    Ok((rows, found.all))
}

/// Where in the queue the jobs stand that a filter means.
async fn waiting(
    connection: &mut Connection,
    action: &BulkAction,
    place: Option<&str>,
    wanted: Option<&Requirement>,
) -> Result<Vec<TimelineSpan>> {
    let counts = line::strands(connection).await?;
    let ids: Vec<StrandId> = counts.iter().map(|count| count.strand_id.0).collect();
    let mut strands = strand::get(connection, &ids).await?;
    strands.retain(|strand| {
        let meant = |place: &str| below(place, &strand.project);
        let same = |wanted: &Requirement| strand.key.0.requirement.parse().as_ref() == Ok(wanted);
        place.is_none_or(meant) && wanted.is_none_or(same)
    });
    let ids: Vec<StrandId> = strands.iter().map(|strand| strand.id.0).collect();
    let Some(reason) = action.reason else {
        return Ok(ids.into_iter().map(TimelineSpan::whole).collect());
    };
    let mut found = Vec::new();
    for (strand, _, message) in strand::latest(connection, &ids).await? {
        let meant =
            views::jobs::queue::stretches(strand, &message).filter(|(other, _)| *other == reason);
        found.extend(meant.map(|(_, stretch)| stretch));
    }
    Ok(found)
}

/// The jobs that were named one by one, of which the filter is true.
async fn named(
    connection: &mut Connection,
    action: &BulkAction,
    place: Option<&str>,
    wanted: Option<&Requirement>,
) -> Result<(Vec<Job>, u64)> {
    if action.jobs.len() > AT_ONCE {
        return Err(ServiceError::invalid(
            "jobs",
            format!("at most {AT_ONCE} jobs can be named in one request"),
        ));
    }
    let mut rows = Vec::new();
    for text in &action.jobs {
        let row = views::jobs::job::find(connection, text).await;
        rows.push(row.map_err(|failure| failure.field("jobs"))?);
    }
    rows.retain(|row| {
        let fits = match action.action {
            Action::Retry => {
                row.state.0 == JobState::Done && row.result.is_some_and(|r| r.0 != Outcome::Success)
            }
            _ => views::jobs::job::waits(row),
        };
        let same = |wanted: &Requirement| row.requirement.parse().as_ref() == Ok(wanted);
        let meant = |place: &str| below(place, &row.project);
        fits && wanted.is_none_or(same) && place.is_none_or(meant)
    });
    if let Some(reason) = action.reason {
        let waiting: Vec<&Job> = rows.iter().collect();
        let reasons = views::jobs::job::reasons(connection, &waiting).await?;
        rows.retain(|row| reasons.get(&row.id.0) == Some(&reason));
    }
    let count = rows.len() as u64;
    Ok((rows, count))
}

async fn one(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    action: Action,
    row: &Job,
) -> Result<Option<String>> {
    let at = app.clock.now();
    let name = ShortName::Job.name(row.number);
    let key = strand::get(connection, &[row.strand_id.0])
        .await?
        .into_iter()
        .next()
        .map(|strand| strand.key.0);
    let done = match (action, action.band(), key) {
        (Action::Cancel, ..) => {
            job::cancel(connection, row.id.0, &who.name, at).await? != Cancelled::Nothing
        }
        (_, Some(band), Some(key)) => {
            let key = StrandKey { band, ..key };
            let strand = app.strand(connection, &key).await?;
            job::move_to(connection, row.id.0, band, strand, at).await?
        }
        (Action::Retry, _, Some(key)) => {
            let again = NewJob {
                id: JobId(app.fresh_id()),
                run: RunId(app.fresh_id()),
                project: key.project,
                strand: row.strand_id.0,
                title: row.title.clone(),
                requirement: row.requirement.clone(),
                command: row.command.0.clone(),
                variables: row.variables.0.clone(),
                time_limit: row.time_limit_us.0,
                tries: row.tries.max(1).unsigned_abs(),
                band: row.band.0,
                seats: row.seats.0.clone(),
                give_up: row.give_up_us.map(|patience| patience.0),
                fail_unmatched: row.fail_unmatched,
                retries: Some(row.id.0),
                by: who.name.clone(),
                at,
            };
            // Its audit row comes with it.
            let numbers = job::submit(connection, again).await?;
            return Ok(Some(ShortName::Job.name(numbers.job)));
        }
        _ => false,
    };
    if !done {
        return Ok(None);
    }
    let (what, detail) = match action.band() {
        Some(band) => ("job.move", json!({"band": band})),
        None => ("job.cancel", json!({})),
    };
    audit::write(connection, at, &who.name, what, &name, detail).await?;
    Ok(Some(name))
}
