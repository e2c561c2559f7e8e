//! Many jobs at once, by filter.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::jobs::run_graph::{ending, try_again};
use crate::operations::transaction::commit;
use crate::views;
use pennine_core::access;
use pennine_core::dispatch::{StrandKey, below};
use pennine_core::id::{JobId, RunId, ShortName};
use pennine_core::lifecycle::bulk::BulkEvent;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::requirement::Requirement;
use pennine_core::visibility::Visibility;
use pennine_store::audit::Actor;
use pennine_store::job::{self, Cancelled, Job, NewJob};
use pennine_store::job_selection::{self, JobMatches};
use pennine_store::run::GraphRow;
use pennine_store::waiting_line;
use pennine_store::{Connection, audit, bulk, line, run, strand};
use pennine_wire::{Action, BulkAction, BulkProgress, BulkResult};
use serde_json::json;

/// Jobs changed by one request.
const AT_ONCE: usize = 500;

/// Jobs named in the answer.
const NAMED: usize = 20;

/// Cancel, retry or move many jobs at once. Jobs are selected by waiting reason, team or requirement, or listed by name. More than
/// 500 are changed in the background.
pub async fn act(app: &App, who: &Principal, mut action: BulkAction) -> Result<BulkResult> {
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
    let mut connection = app.store.people().await?;
    let (found, all) = find(&mut connection, who, &mut action).await?;
    let count = |n: usize| u64::try_from(n).unwrap_or(u64::MAX);
    drop(connection);
    if !action.preview && all > count(found.len()) && action.jobs.is_empty() {
        let name = begin(app, who, &action).await?;
        return Ok(BulkResult {
            found: all,
            changed: 0,
            jobs: Vec::new(),
            background: Some(name),
        });
    }
    let mut changed = Vec::new();
    if !action.preview {
        for row in &found {
            // Each with its audit row: what is done stays done where a later one fails.
            let one = commit(app, async |connection| {
                one(app, connection, &who.actor, action.action, row).await
            });
            changed.extend(one.await?);
        }
    }
    Ok(BulkResult {
        found: all,
        changed: count(changed.len()),
        background: None,
        jobs: if action.preview {
            let rows = found.iter().take(NAMED);
            rows.map(|row| ShortName::Job.name(row.number)).collect()
        } else {
            changed.truncate(NAMED);
            changed
        },
    })
}

/// The right that an action needs.
fn right(action: Action) -> access::Action {
    match action {
        Action::Cancel => access::Action::CancelJob,
        Action::Retry => access::Action::SubmitJob,
        _ => access::Action::MoveJob,
    }
}

/// Begins an action in the background, and returns its short name.
async fn begin(app: &App, who: &Principal, action: &BulkAction) -> Result<String> {
    let request = serde_json::to_value(action).map_err(|error| ServiceError::ours(&error))?;
    let (id, at) = (app.fresh_id(), app.clock.now());
    commit(app, async |connection| {
        let row = bulk::begin(connection, id, &request, &who.actor, at).await?;
        let name = ShortName::BulkAction.name(row.number);
        let meant = views::jobs::bulk::filter(connection, &Visibility::whole(), action).await?;
        let permit = who.actor.clone().at(meant.place.unwrap_or_default());
        audit::write(connection, at, &permit, "jobs.act", &name, request).await?;
        Ok(name)
    })
    .await
}

/// Stop an action that goes on in the background. What it has changed stays changed.
///
/// # Errors
/// Where there is none of that name, or it is over.
pub async fn stop(app: &App, who: &Principal, name: &str) -> Result<BulkProgress> {
    let at = app.clock.now();
    commit(app, async |connection| {
        let row = views::jobs::bulk::find(connection, name).await?;
        let request = views::jobs::bulk::request(&row)?;
        if !views::jobs::bulk::is_visible(who, &views::jobs::bulk::shown(row.clone())?) {
            return Err(ServiceError::unknown("bulk-action", name));
        }
        let meant = views::jobs::bulk::filter(connection, &Visibility::whole(), &request).await?;
        let permit = who.require(
            right(request.action),
            meant.place.as_deref().unwrap_or_default(),
        )?;
        let over = |error| ServiceError::conflict("over", "The action is over", error);
        let to = row.state.after(BulkEvent::Stop);
        let to = to.map_err(|error| over(error.to_string()))?;
        if !bulk::end(connection, row.id, (row.state.0, to), None, at).await? {
            return Err(over(format!("{name} has just ended")));
        }
        audit::write(connection, at, &permit, "jobs.stop", name, json!({})).await?;
        views::jobs::bulk::shown(views::jobs::bulk::find(connection, name).await?)
    })
    .await
}

/// The jobs that the filter means and to which the action can be done: the oldest of them, and how many there are. The action
/// names its team or project by path afterwards, which means the same to everybody.
///
/// # Errors
/// Forbidden where the action is not allowed at the place of the filter, or of a job that was named.
async fn find(
    connection: &mut Connection,
    who: &Principal,
    action: &mut BulkAction,
) -> Result<(Vec<Job>, u64)> {
    let wanted = match &action.requirement {
        None => None,
        Some(text) => Some(
            text.parse::<Requirement>()
                .map_err(|e| ServiceError::requirement("where", e))?,
        ),
    };
    let meant = views::jobs::bulk::filter(connection, &who.sees, action).await?;
    for named in [&mut action.project, &mut action.team] {
        if named.is_some() {
            named.clone_from(&meant.place);
        }
    }
    let right = right(action.action);
    if !action.jobs.is_empty() {
        let found = named(
            connection,
            who,
            action,
            meant.place.as_deref(),
            wanted.as_ref(),
        )
        .await?;
        for row in &found.0 {
            who.require(right, &row.project)?;
        }
        return Ok(found);
    }
    who.require(right, meant.place.as_deref().unwrap_or_default())?;
    let most = i64::try_from(AT_ONCE).unwrap_or(i64::MAX);
    let (place, requirement) = (meant.place.as_deref(), meant.requirement.as_deref());
    let found = if action.action == Action::Retry {
        job_selection::failed(connection, place, requirement, most).await?
    } else if meant.is_by_reason() {
        let groups = waiting_line::groups(connection, &meant).await?;
        // Each span has a job at least.
        let spans = waiting_line::spans(connection, &meant, most).await?;
        let found = line::find(connection, &spans, most).await?;
        JobMatches {
            all: views::jobs::queue::waiting(&groups).max(found.all),
            ..found
        }
    } else {
        job_selection::waiting(connection, place, requirement, most).await?
    };
    let rows = job::with_ids(connection, &found.ids).await?;
    Ok((rows, found.all))
}

/// The jobs that were named one by one, of which the filter is true.
async fn named(
    connection: &mut Connection,
    who: &Principal,
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
        let row = views::jobs::job::find(connection, who, text).await;
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

/// Does something to one job. Returns its short name, or that of the new job; none where nothing was to be done.
///
/// # Errors
/// Where the database does not answer.
pub async fn one(
    app: &App,
    connection: &mut Connection,
    by: &Actor,
    action: Action,
    row: &Job,
) -> Result<Option<String>> {
    let at = app.clock.now();
    let name = ShortName::Job.name(row.number);
    let permit = by.clone().at(&row.project);
    let key = strand::get(connection, &[row.strand_id.0])
        .await?
        .into_iter()
        .next()
        .map(|strand| strand.key.0);
    let done = match (action, action.band(), key) {
        (Action::Cancel, ..) => {
            let cancelled = ending(connection, &[row.id.0], at, async |connection| {
                job::cancel(connection, row.id.0, &by.name, at).await
            })
            .await?;
            cancelled != Cancelled::Nothing
        }
        (_, Some(band), Some(key)) => {
            let key = StrandKey { band, ..key };
            let strand = app.strand(connection, &key).await?;
            job::move_to(connection, row.id.0, band, strand, at).await?
        }
        (Action::Retry, ..) if row.is_of_sheet => {
            let Some(run) = run::of_job(connection, row.id.0).await? else {
                return Ok(None);
            };
            run::lock(connection, run).await?;
            let this = |rows: &[GraphRow]| {
                let found = rows.iter().position(|one| one.id == row.id);
                Ok::<_, ServiceError>(found.into_iter().collect())
            };
            if try_again(app, connection, run, this, false, at).await? == 0 {
                return Ok(None);
            }
            audit::write(connection, at, &permit, "job.retry", &name, json!({})).await?;
            return Ok(Some(name));
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
                secrets: row.secrets.0.clone(),
                time_limit: row.time_limit_us.0,
                tries: row.tries.max(1).unsigned_abs(),
                band: row.band.0,
                seats: row.seats.0.clone(),
                trust: row.trust.0,
                give_up: row.give_up_us.map(|patience| patience.0),
                fail_unmatched: row.fail_unmatched,
                retries: Some(row.id.0),
                by: permit,
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
    audit::write(connection, at, &permit, what, &name, detail).await?;
    Ok(Some(name))
}
