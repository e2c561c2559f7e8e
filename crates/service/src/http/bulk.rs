//! Many jobs at once, by filter.

use super::answer::{Answer, Failure};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::jobs;
use crate::app::App;
use axum::Json;
use axum::extract::State;
use pennine_core::dispatch::StrandKey;
use pennine_core::id::{JobId, RunId, Short, StrandId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::requirement::Requirement;
use pennine_store::job::{Cancelled, Filter, Job, NewJob};
use pennine_store::{Connection, audit, job, strand};
use pennine_wire::{Action, BulkAction, BulkResult, Problem};
use serde_json::json;
use std::collections::HashMap;

/// Jobs changed by one request.
const AT_ONCE: usize = 500;
/// Jobs named in the answer.
const NAMED: usize = 20;

/// Cancel, retry or move many jobs at once. Those that wait for a reason, of a team, with a requirement, or named one
/// by one; at most 500 in one request.
#[utoipa::path(post, operation_id = "act_on_jobs", path = "/jobs/actions", tag = "jobs", request_body = BulkAction,
    responses((status = 200, body = BulkResult), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn act(
    State(app): State<App>,
    who: Principal,
    JsonBody(action): JsonBody<BulkAction>,
) -> Answer<Json<BulkResult>> {
    who.require(Role::Submitter)?;
    let unfiltered = action.reason.is_none()
        && action.under.is_none()
        && action.requirement.is_none()
        && action.jobs.is_empty();
    if unfiltered {
        return Err(Failure::invalid(
            "action",
            "it says of no jobs: give a reason, a team or project, a requirement, or the jobs themselves",
        ));
    }
    let mut connection = app.store.get().await?;
    let found = find(&mut connection, &action).await?;
    let mut changed = Vec::new();
    if !action.preview {
        for row in found.iter().take(AT_ONCE) {
            changed.extend(one(&app, &mut connection, &who, action.action, row).await?);
        }
        let detail = json!({"filter": action, "changed": changed.len()});
        let at = app.clock.now();
        audit::write(&mut connection, at, &who.name, "jobs.act", "many", detail).await?;
        app.feed.kick();
    }
    let count = |n: usize| u64::try_from(n).unwrap_or(u64::MAX);
    Ok(Json(BulkResult {
        found: count(found.len()),
        changed: count(changed.len()),
        more: !action.preview && found.len() > AT_ONCE,
        jobs: if action.preview {
            let rows = found.iter().take(NAMED);
            rows.map(|row| Short::Job.name(row.number)).collect()
        } else {
            changed.truncate(NAMED);
            changed
        },
    }))
}

/// The jobs that the filter means and to which the action can be done.
async fn find(connection: &mut Connection, action: &BulkAction) -> Answer<Vec<Job>> {
    let wanted = match &action.requirement {
        None => None,
        Some(text) => Some(
            text.parse::<Requirement>()
                .map_err(|e| Failure::requirement("where", e))?,
        ),
    };
    let retry = action.action == Action::Retry;
    let state = if retry {
        JobState::Done
    } else {
        JobState::Pending
    };
    let mut rows = Vec::new();
    if action.jobs.is_empty() {
        let filter = Filter {
            states: vec![state],
            under: action.under.clone(),
            before: None,
        };
        rows = job::list(
            connection,
            &filter,
            i64::try_from(AT_ONCE * 20).unwrap_or(i64::MAX),
        )
        .await?;
    } else {
        for text in action.jobs.iter().take(AT_ONCE) {
            rows.push(
                jobs::find(connection, text)
                    .await
                    .map_err(|f| f.field("jobs"))?,
            );
        }
    }
    rows.retain(|row| {
        let fits = match retry {
            true => {
                row.state.0 == JobState::Done && row.result.is_some_and(|r| r.0 != Outcome::Success)
            }
            false => jobs::waits(row),
        };
        let same = |wanted: &Requirement| {
            row.requirement
                .parse()
                .is_ok_and(|own: Requirement| own == *wanted)
        };
        fits && wanted.as_ref().is_none_or(same)
    });
    if let Some(reason) = action.reason {
        let ids: Vec<StrandId> = rows.iter().map(|row| row.strand_id.0).collect();
        let said = strand::latest(connection, &ids).await?;
        let said: HashMap<StrandId, _> = said
            .into_iter()
            .filter_map(|(id, _, segments)| Some((id, segments.first()?.reason)))
            .collect();
        rows.retain(|row| said.get(&row.strand_id.0) == Some(&reason));
    }
    // The oldest first.
    rows.reverse();
    Ok(rows)
}

async fn one(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    action: Action,
    row: &Job,
) -> Answer<Option<String>> {
    let at = app.clock.now();
    let name = Short::Job.name(row.number);
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
                give_up: None,
                fail_unmatched: row.fail_unmatched,
                by: who.name.clone(),
                at,
            };
            let numbers = job::submit(connection, again).await?;
            return Ok(Some(Short::Job.name(numbers.job)));
        }
        _ => false,
    };
    Ok(done.then_some(name))
}
