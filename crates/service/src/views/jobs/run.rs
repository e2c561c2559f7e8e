//! Runs.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::jobs::job::JobContext;
use crate::views::search;
use pennine_core::access::Action;
use pennine_core::id::{RunId, ShortName};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::run::{self, GraphJob, RunState};
use pennine_core::sheet::{Need, depths};
use pennine_core::time::Moment;
use pennine_store::run::{self as runs, Filter, GraphRow};
use pennine_store::{Connection, job};
use pennine_wire::{Page, Run, RunCounts, RunJob, RunLine, RunNeed};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

/// The most runs that one page searches: their text is in no index.
const SEARCHED: i64 = 50_000;

/// Finds a run by its id or short name.
///
/// # Errors
/// Unknown where there is none, or where it is not for this person to see.
pub async fn find(connection: &mut Connection, who: &Principal, text: &str) -> Result<runs::Run> {
    let (id, number) = (
        text.parse::<Uuid>().ok().map(RunId),
        ShortName::Run.number(text),
    );
    let found = match (id, number) {
        (None, None) => None,
        _ => runs::find(connection, id, number).await?,
    };
    found
        .filter(|run| who.may(Action::View, &run.project))
        .ok_or_else(|| ServiceError::unknown("run", text))
}

fn counts(run: &runs::Run) -> RunCounts {
    let mut counts = RunCounts::default();
    for state in &run.states {
        match state.0 {
            JobState::Held => counts.held += 1,
            JobState::Pending => counts.pending += 1,
            JobState::Executing | JobState::Finalizing => counts.executing += 1,
            JobState::Done => {}
        }
    }
    for result in &run.results {
        match result.0 {
            Outcome::Success => counts.success += 1,
            Outcome::Failure | Outcome::Error | Outcome::Timeout => counts.failure += 1,
            Outcome::Cancellation => counts.cancellation += 1,
            Outcome::Skip => counts.skip += 1,
        }
    }
    counts
}

/// The run as a line of a list.
pub fn line(run: &runs::Run) -> RunLine {
    let state = run::state(run.states.iter().map(|state| state.0));
    let result = run::outcome(run.results.iter().map(|result| result.0));
    RunLine {
        id: run.id.0,
        name: ShortName::Run.name(run.number),
        title: run.title.clone(),
        project: run.project.clone(),
        branch: run.branch.clone(),
        revision: run.revision.clone(),
        event: run.event.clone(),
        has_sheet: run.has_sheet,
        only_job: run.only_job.map(|number| ShortName::Job.name(number)),
        state,
        result: (state == RunState::Done).then_some(result),
        overtaken_by: run.overtaken_by.map(|number| ShortName::Run.name(number)),
        created_at: run.created_at.0,
        created_by: run.created_by.clone(),
        finished_at: run.finished_at.map(|at| at.0),
        jobs: counts(run),
    }
}

/// Which runs to list.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct RunListParams {
    /// Only runs of this project: its path, or its name if that is unique.
    pub project: Option<String>,
    /// Only runs of this team and the teams below it.
    pub team: Option<String>,
    /// Only runs of this branch.
    pub branch: Option<String>,
    /// Only runs of job sheets: a job that was submitted alone has a run of its own.
    #[serde(default)]
    pub with_sheet: bool,
    /// Only runs whose name, title, project, branch, revision or submitter contains this text. One page searches at most 50,000
    /// runs, so it may be short or empty although it has a `next`.
    pub search: Option<String>,
    /// The cursor of the page before.
    pub after: Option<String>,
    /// How many: 1 to 200, 50 when not given.
    pub limit: Option<i64>,
}

/// The runs that this person may see, newest first. `next` is the cursor of the next page.
///
/// # Errors
/// Invalid where a parameter is.
pub async fn list(app: &App, who: &Principal, params: &RunListParams) -> Result<Page<RunLine>> {
    let limit = params.limit.unwrap_or(50);
    if !(1..=200).contains(&limit) {
        return Err(ServiceError::invalid("limit", "limit is 1 to 200"));
    }
    let before = match &params.after {
        None => None,
        Some(text) => Some(ShortName::Run.number(text).ok_or_else(|| {
            let message = "invalid cursor: send the `next` of the previous page";
            ServiceError::invalid("after", message)
        })?),
    };
    let search = search::text(params.search.as_deref())?;
    let mut connection = app.store.people().await?;
    let (project, team) = (params.project.as_deref(), params.team.as_deref());
    let mut filter = Filter {
        place: views::people::place::path(&mut connection, &who.sees, project, team).await?,
        visible: who.visible_places(),
        with_sheet: params.with_sheet,
        branch: params.branch.clone(),
        before,
        from: None,
        search: search.to_owned(),
    };
    if !search.is_empty() {
        let newest = runs::newest_number(&mut connection).await?;
        filter.from = Some(before.unwrap_or(newest + 1) - SEARCHED);
    }
    let mut rows = runs::list(&mut connection, &filter, limit + 1).await?;
    let is_more = rows.len() as i64 > limit;
    rows.truncate(usize::try_from(limit).unwrap_or(0));
    let items: Vec<RunLine> = rows.iter().map(line).collect();
    let next = if is_more {
        items.last().map(|last| last.name.clone())
    } else {
        // What was searched ends here; older runs may match as well.
        let rest = filter.from.filter(|from| *from > 1);
        rest.map(|from| ShortName::Run.name(from))
    };
    Ok(Page { items, next })
}

/// One run, by id or short name.
///
/// # Errors
/// Unknown where it is not visible.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<Run> {
    let mut connection = app.store.people().await?;
    let run = find(&mut connection, who, text).await?;
    whole(&mut connection, &run, app.clock.now()).await
}

/// When a job ended, as far as it has run.
fn end(row: &GraphRow, now: Moment) -> Option<Moment> {
    match row.state.0 {
        JobState::Held | JobState::Pending => None,
        JobState::Executing | JobState::Finalizing => Some(now),
        JobState::Done if row.is_assigned => row.finished_at.map(|at| at.0),
        JobState::Done => None,
    }
}

/// A run with its jobs.
///
/// # Errors
/// Where the database does not answer.
pub async fn whole(connection: &mut Connection, run: &runs::Run, now: Moment) -> Result<Run> {
    let jobs = job::of_run(connection, run.id.0).await?;
    let context = JobContext::read(connection, &jobs).await?;
    let rows = runs::graph(connection, run.id.0).await?;
    let parts: Vec<GraphJob> = rows.iter().map(GraphRow::job).collect();
    let steps = depths(parts.iter().map(|part| part.needs.as_slice()));
    let graph = jobs.iter().map(|job| {
        let position = rows.iter().position(|row| row.id == job.id);
        let part = position.and_then(|position| parts.get(position));
        let need = |need: &Need| {
            let row = rows.get(need.job)?;
            Some(RunNeed {
                job: ShortName::Job.name(row.number),
                title: row.title.clone(),
                success: need.success,
            })
        };
        let step = position.and_then(|position| steps.get(position).copied());
        RunJob {
            job: context.line(job, now),
            step: step.map_or(1, |step| u32::try_from(step + 1).unwrap_or(u32::MAX)),
            after: part.map_or_else(Vec::new, |part| {
                part.needs.iter().filter_map(need).collect()
            }),
            held_for: part.and_then(|part| run::held_for(part, &parts)),
            needs_release: part
                .is_some_and(|part| part.state == JobState::Held && part.needs_release),
            message: job.message.clone(),
        }
    });
    let ends: Vec<Option<Moment>> = rows.iter().map(|row| end(row, now)).collect();
    let needs: Vec<&[Need]> = parts.iter().map(|part| part.needs.as_slice()).collect();
    let path = run::critical_path(&ends, &needs);
    let path = path.iter().filter_map(|position| rows.get(*position));
    Ok(Run {
        critical_path: path.map(|row| ShortName::Job.name(row.number)).collect(),
        line: line(run),
        repository: run.repository.clone(),
        values: run.values.0.clone(),
        overridden: run.overrides.0.describe(),
        overrides: run.overrides.0.clone(),
        graph: graph.collect(),
        now,
    })
}
