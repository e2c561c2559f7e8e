//! A scarce runner that many share: who is next, and taking it back.

use super::answer::Answer;
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::runners;
use crate::app::App;
use crate::error::ServiceError;
use crate::leader::rebuild;
use crate::validation::check_why;
use axum::Json;
use axum::extract::{Path, State};
use pennine_core::dispatch::{Event, RunnerView};
use pennine_core::id::{AttemptId, JobId, RunnerId, Short};
use pennine_core::lifecycle::runner::{RunnerState, Wish};
use pennine_store::attempt::{self, Loss};
use pennine_store::maintenance::Calendar;
use pennine_store::{audit, job};
use pennine_wire::{ChangedRunner, NextJob, Page, Problem, TakeRunnerBack};
use serde_json::json;

/// How many are named.
const NEXT: u128 = 5;

/// The jobs that would be next on a runner, in the order in which dispatch would give it to them if it became free now and
/// nobody else could take them: bands, shares, limits and seats as they are.
#[utoipa::path(get, operation_id = "list_next", path = "/runners/{runner}/next", tag = "yard",
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = Page<NextJob>), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn next(
    State(app): State<App>,
    _: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Page<NextJob>>> {
    let mut connection = app.store.get().await?;
    let id = runners::find(&mut connection, &text).await?;
    let now = app.clock.now();
    let calendar = Calendar::read(&mut connection, now).await?;
    // As if it alone were there: what dispatch would plan for it then, one slot after the other, is the answer.
    let mut only = None;
    let alone = |view: &mut RunnerView| {
        if view.id == id {
            (view.state, view.wish) = (RunnerState::Available, Wish::Work);
            only = Some(view.clone());
        } else {
            view.state = RunnerState::Offline;
        }
    };
    let (mut state, _) = rebuild::rebuild(&mut connection, &calendar, now, alone).await?;
    let mut jobs: Vec<JobId> = Vec::new();
    if let Some(mut view) = only {
        view.slots = u32::try_from(state.used_by(id)).unwrap_or(0);
        for number in 1..=NEXT {
            view.slots += 1;
            state.apply(Event::Runner(Box::new(view.clone())), now);
            let plan = state.plan(now, &mut || AttemptId(uuid::Uuid::from_u128(number)));
            let Some(first) = plan.assignments.first() else {
                break;
            };
            jobs.push(first.job);
        }
    }
    let rows = job::with_ids(&mut connection, &jobs).await?;
    let shown = jobs
        .iter()
        .filter_map(|id| rows.iter().find(|row| row.id.0 == *id));
    let items = shown.map(|row| NextJob {
        job: Short::Job.name(row.number),
        title: row.title.clone(),
        project: row.project.clone(),
        requirement: row.requirement.clone(),
        waits_since: row
            .waits_since
            .or(row.ready_at)
            .map_or(row.created_at.0, |at| at.0),
    });
    Ok(Json(Page {
        items: items.collect(),
        next: None,
    }))
}

/// Take a runner back from the jobs that have it: they are ended and tried again, losing no try, and the runner is paused,
/// so that nothing takes it before somebody resumes it.
#[utoipa::path(post, operation_id = "take_runner_back", path = "/runners/{runner}/take-back", tag = "yard", request_body = TakeRunnerBack,
    params(("runner" = String, Path, description = "its id, short name (r-18) or name")),
    responses((status = 200, body = ChangedRunner), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn take_back(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    JsonBody(back): JsonBody<TakeRunnerBack>,
) -> Answer<Json<ChangedRunner>> {
    who.require(Role::Operator)?;
    check_why(&back.why)?;
    let id = runners::find(&mut *app.store.get().await?, &text).await?;
    // Paused first: what is taken from it does not come back to it.
    let Json(before) = runners::set_wish(&app, id, &text, Wish::Pause, &who.name).await?;
    let mut ends = Vec::new();
    for one in attempts(&app, id).await? {
        let loss = Loss {
            said: format!("{} took {} back: {}", who.name, before.name, back.why),
            counts: false,
        };
        let mut connection = app.store.get().await?;
        let now = app.clock.now();
        if attempt::lose(&mut connection, None, one, &loss, now).await? {
            app.memory.over(id, one);
        }
        app.followed.ring(one);
    }
    ends.extend(before.executing.iter().cloned());
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let jobs: Vec<&str> = ends.iter().map(|one| one.job.as_str()).collect();
    let detail = json!({"why": back.why, "jobs": jobs});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "runner.take-back",
        &before.name,
        detail,
    )
    .await?;
    app.feed.kick();
    app.polls.ring(id);
    let Json(runner) = runners::one(&mut connection, id).await?;
    Ok(Json(ChangedRunner {
        runner,
        done: true,
        losses: Vec::new(),
        ends,
    }))
}

async fn attempts(app: &App, runner: RunnerId) -> Answer<Vec<AttemptId>> {
    let mut connection = app.store.get().await?;
    let open = attempt::for_runner(&mut connection, runner)
        .await
        .map_err(ServiceError::from)?;
    Ok(open.into_iter().map(|one| one.id.0).collect())
}
