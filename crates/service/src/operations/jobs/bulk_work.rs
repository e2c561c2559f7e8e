//! Carries out actions on many jobs: the leader changes some jobs at a time, so that dispatch goes on meanwhile, and another leader
//! goes on where this one ended.

use super::bulk::one;
use crate::app::App;
use crate::background::Task;
use crate::error::{ErrorKind, Result, ServiceError};
use crate::operations::jobs::run_graph::ending;
use crate::operations::transaction::commit;
use crate::views;
use pennine_core::id::ShortName;
use pennine_core::lifecycle::bulk::{BulkEvent, BulkState};
use pennine_core::visibility::Visibility;
use pennine_store::audit::Actor;
use pennine_store::bulk::{self, BulkRow};
use pennine_store::{Connection, audit, job};
use pennine_wire::Action;
use serde_json::json;
use std::collections::BTreeMap;
use std::time::Duration;

/// Jobs cancelled in one transaction: some ten milliseconds.
const CANCELLED_AT_ONCE: i64 = 500;
/// Jobs changed in one transaction where each takes several statements.
const CHANGED_AT_ONCE: i64 = 50;
/// Between two transactions: what else the database has to do goes first.
const REST: Duration = Duration::from_millis(10);

/// What became of an action's next jobs.
enum Step {
    More,
    Over,
}

/// Carries out all actions that are not over.
///
/// # Errors
/// Where the database does not answer: to be repeated.
pub async fn work(app: &App) -> Result<()> {
    let mut connection = app.store.tasks().await?;
    let running = bulk::running(&mut connection).await?;
    drop(connection);
    for row in running {
        match carry_out(app, &row).await {
            Ok(()) => {}
            Err(error) if is_temporary(&error) => return Err(error),
            Err(error) => {
                tracing::error!(%error, action = row.number, "a bulk action has failed");
                end(app, &row, BulkEvent::Fail, Some(&error.details().detail)).await?;
            }
        }
    }
    Ok(())
}

fn is_temporary(error: &ServiceError) -> bool {
    matches!(
        error.details().kind,
        ErrorKind::Unavailable | ErrorKind::Busy | ErrorKind::Internal
    )
}

async fn carry_out(app: &App, row: &BulkRow) -> Result<()> {
    let request = views::jobs::bulk::request(row)?;
    if row.found.is_none() {
        let mut connection = app.store.patient().await?;
        let meant =
            views::jobs::bulk::filter(&mut connection, &Visibility::whole(), &request).await?;
        if request.action == Action::Retry {
            bulk::collect_failed(&mut connection, row.id, &meant).await?;
        } else {
            bulk::collect_waiting(&mut connection, row.id, &meant).await?;
        }
    }
    while app.leads() && !app.stop.is_cancelled() {
        app.turns.turn(Task::BulkActions);
        let step = commit(app, async |connection| {
            step(app, connection, row, request.action).await
        });
        if matches!(step.await?, Step::Over) {
            break;
        }
        tokio::time::sleep(REST).await;
    }
    Ok(())
}

async fn step(
    app: &App,
    connection: &mut Connection,
    row: &BulkRow,
    action: Action,
) -> Result<Step> {
    if bulk::lock(connection, row.id).await? != Some(BulkState::Running) {
        return Ok(Step::Over);
    }
    let most = match action {
        Action::Cancel => CANCELLED_AT_ONCE,
        _ => CHANGED_AT_ONCE,
    };
    let at = app.clock.now();
    let jobs = bulk::take(connection, row.id, most).await?;
    if jobs.is_empty() {
        let to = BulkState::Running.after(BulkEvent::Finish);
        let to = to.map_err(|error| ServiceError::ours(&error))?;
        bulk::end(connection, row.id, (BulkState::Running, to), None, at).await?;
        return Ok(Step::Over);
    }
    let actor = Actor::named(row.created_by_kind.0, &row.created_by);
    let mut changed = 0;
    if action == Action::Cancel {
        let cancelled = ending(connection, &jobs, at, async |connection| {
            job::cancel_all(connection, &jobs, &actor.name, at).await
        })
        .await?;
        changed = cancelled.len();
        let detail = json!({"action": ShortName::BulkAction.name(row.number)});
        let mut by_project: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for job in cancelled {
            let names = by_project.entry(job.project).or_default();
            names.push(ShortName::Job.name(job.number));
        }
        for (project, names) in by_project {
            let permit = actor.clone().at(project);
            audit::write_all(connection, at, &permit, "job.cancel", &names, &detail).await?;
        }
    } else {
        for job in job::with_ids(connection, &jobs).await? {
            changed += usize::from(one(app, connection, &actor, action, &job).await?.is_some());
        }
    }
    bulk::count(connection, row.id, jobs.len(), changed).await?;
    Ok(Step::More)
}

/// Ends an action. Whether it was not over yet.
///
/// # Errors
/// Where the database does not answer.
pub async fn end(
    app: &App,
    row: &BulkRow,
    event: BulkEvent,
    message: Option<&str>,
) -> Result<bool> {
    let Ok(to) = BulkState::Running.after(event) else {
        return Ok(false);
    };
    let mut connection = app.store.tasks().await?;
    let states = (BulkState::Running, to);
    Ok(bulk::end(&mut connection, row.id, states, message, app.clock.now()).await?)
}
