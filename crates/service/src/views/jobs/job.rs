//! Jobs.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::search;
use pennine_core::access::Action;
use pennine_core::dispatch::{Reason, Segment, reason_at};
use pennine_core::id::{JobId, ShortName, StrandId};
use pennine_core::lifecycle::job::JobState;
use pennine_core::run::GraphJob;
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use pennine_core::wait::{Span, StrandStay, split};
use pennine_store::job::{self, Filter};
use pennine_store::run::{self, GraphRow};
use pennine_store::{Connection, Error, attempt, line, strand, strand_visit};
use pennine_wire::{Attempt, Job, JobLine, Page};
use serde::Deserialize;
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;
use utoipa::IntoParams;
use uuid::Uuid;

/// Finds a job by its id or short name.
///
/// # Errors
/// Unknown where there is none, or where it is not for this person to see.
pub async fn find(connection: &mut Connection, who: &Principal, text: &str) -> Result<job::Job> {
    let (id, number) = (
        text.parse::<Uuid>().ok().map(JobId),
        ShortName::Job.number(text),
    );
    let found = if id.is_none() && number.is_none() {
        None
    } else {
        job::find(connection, id, number).await?
    };
    found
        .filter(|job| who.may(Action::View, &job.project))
        .ok_or_else(|| ServiceError::unknown("job", text))
}

/// A size as it is stored.
pub(super) fn stored_size(bytes: i64) -> ByteSize {
    ByteSize(bytes.max(0).unsigned_abs())
}

/// Reads what lists of jobs need beside the jobs: their attempts and their strands' reasons.
pub struct JobContext {
    pub attempts: HashMap<JobId, Vec<attempt::Attempt>>,
    reasons: HashMap<JobId, Reason>,
}

/// A job waits when it is pending and no runner has it.
pub fn waits(job: &job::Job) -> bool {
    job.state.0 == JobState::Pending && job.current_attempt.is_none()
}

/// Why each of these waiting jobs waits, by its place in its strand's line.
pub async fn reasons(
    connection: &mut Connection,
    waiting: &[&job::Job],
) -> Result<HashMap<JobId, Reason>, Error> {
    let strands: BTreeSet<StrandId> = waiting.iter().map(|job| job.strand_id.0).collect();
    if strands.is_empty() {
        return Ok(HashMap::new());
    }
    let strands: Vec<StrandId> = strands.into_iter().collect();
    let message: HashMap<StrandId, Vec<Segment>> = strand::latest(connection, &strands)
        .await?
        .into_iter()
        .map(|(id, _, segments)| (id, segments))
        .collect();
    let several = message.iter().filter(|(_, segments)| segments.len() > 1);
    let several: Vec<StrandId> = several.map(|(id, _)| *id).collect();
    let places = if several.is_empty() {
        HashMap::new()
    } else {
        line::ahead(connection, &several).await?
    };
    let reason = |job: &&job::Job| {
        let message = message.get(&job.strand_id.0)?;
        let ahead = places.get(&job.id.0).copied().unwrap_or(0);
        Some((job.id.0, reason_at(message, ahead)))
    };
    Ok(waiting.iter().filter_map(reason).collect())
}

impl JobContext {
    /// Reads it for these jobs.
    pub async fn read(connection: &mut Connection, jobs: &[job::Job]) -> Result<JobContext, Error> {
        let ids: Vec<JobId> = jobs.iter().map(|job| job.id.0).collect();
        let mut attempts: HashMap<JobId, Vec<attempt::Attempt>> = HashMap::new();
        for one in attempt::of_jobs(connection, &ids).await? {
            attempts.entry(one.job_id.0).or_default().push(one);
        }
        let waiting: Vec<&job::Job> = jobs.iter().filter(|job| waits(job)).collect();
        Ok(JobContext {
            attempts,
            reasons: reasons(connection, &waiting).await?,
        })
    }

    /// The job as a line of a list.
    pub fn line(&self, job: &job::Job, now: Moment) -> JobLine {
        let attempts = self
            .attempts
            .get(&job.id.0)
            .map(Vec::as_slice)
            .unwrap_or_default();
        let last = attempts.last();
        let mut wait: Duration = attempts.iter().map(|one| wait_of(one, now)).sum();
        if let (true, Some(since)) = (waits(job), job.waits_since) {
            wait += now.since(since.0);
        } else if let (None, Some(since), Some(finished)) =
            (job.current_attempt, job.waits_since, job.finished_at)
        {
            // It ended while it waited.
            wait += finished.since(since.0);
        }
        // Nothing is said yet of a job that has just come in.
        let reason = match (job.state.0, waits(job)) {
            (JobState::Pending, true) => self
                .reasons
                .get(&job.id.0)
                .copied()
                .or(Some(Reason::Handover)),
            (JobState::Pending, false) => Some(Reason::Handover),
            _ => None,
        };
        let ran = last.and_then(|one| {
            let started = one.started_at?;
            let until = one.exited_at.or(one.finished_at).map_or(now, |at| at.0);
            Some(until.since(started.0).into())
        });
        JobLine {
            id: job.id.0,
            name: ShortName::Job.name(job.number),
            title: job.title.clone(),
            project: job.project.clone(),
            requirement: job.requirement.clone(),
            state: job.state.0,
            result: job.result.map(|result| result.0),
            reason,
            runner: last.map(|one| one.runner.clone()),
            created_at: job.created_at.0,
            started_at: job.started_at.map(|at| at.0),
            finished_at: job.finished_at.map(|at| at.0),
            wait_us: wait.into(),
            ran_us: ran,
        }
    }
}

fn wait_of(one: &attempt::Attempt, now: Moment) -> Duration {
    wait_end(one, now).since(one.ready_at.0)
}

/// When an attempt's wait was over: it started, or it was lost before.
fn wait_end(one: &attempt::Attempt, now: Moment) -> Moment {
    one.started_at.or(one.finished_at).map_or(now, |at| at.0)
}

/// Where a job stands in line.
fn in_line(row: &job::Job) -> strand_visit::Queued {
    strand_visit::Queued {
        job: row.id.0,
        ready_at: row.ready_at.map_or(row.created_at.0, |at| at.0),
        number: row.number,
    }
}

/// The most jobs that one page searches: their text is in no index.
const SEARCHED: i64 = 50_000;

/// Which jobs to list.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct ListParams {
    /// Only jobs in these states, joined with commas.
    pub state: Option<String>,
    /// Only jobs of this project: its path, or its name if that is unique.
    pub project: Option<String>,
    /// Only jobs of this team and the teams below it.
    pub team: Option<String>,
    /// Only jobs whose name, title, project, requirement, result, runner or submitter contains this text. One page
    /// searches at most 50,000 jobs, so it may be short or empty although it has a `next`.
    pub search: Option<String>,
    /// The cursor of the page before.
    pub after: Option<String>,
    /// How many: 1 to 200, 50 when not given.
    pub limit: Option<i64>,
}

impl ListParams {
    /// Returns how many are asked for.
    pub fn limit(&self) -> i64 {
        self.limit.unwrap_or(50)
    }
}

/// The jobs that this person may see, newest first. `next` is the cursor of the next page.
pub async fn list(app: &App, who: &Principal, params: &ListParams) -> Result<Page<JobLine>> {
    let limit = params.limit();
    if !(1..=200).contains(&limit) {
        return Err(ServiceError::invalid("limit", "limit is 1 to 200"));
    }
    let words = params
        .state
        .iter()
        .flat_map(|states| states.split(','))
        .filter(|word| !word.is_empty());
    let states = words
        .map(str::parse::<JobState>)
        .collect::<std::result::Result<Vec<_>, _>>()
        .map_err(|e| ServiceError::invalid("state", e))?;
    let before = match &params.after {
        Some(text) => Some(ShortName::Job.number(text).ok_or_else(|| {
            ServiceError::invalid(
                "after",
                "invalid cursor: send the `next` of the previous page",
            )
        })?),
        None => None,
    };
    let search = search::text(params.search.as_deref())?;
    let mut connection = app.store.people().await?;
    let (project, team) = (params.project.as_deref(), params.team.as_deref());
    let mut filter = Filter {
        states,
        place: views::people::place::path(&mut connection, &who.sees, project, team).await?,
        visible: who.visible_places(),
        before,
        search: search.to_owned(),
        from: None,
    };
    if !search.is_empty() {
        let newest = job::newest_number(&mut connection).await?;
        filter.from = Some(before.unwrap_or(newest + 1) - SEARCHED);
    }
    let rows = job::list(&mut connection, &filter, limit + 1).await?;
    let more = rows.len() as i64 > limit;
    let rows: Vec<job::Job> = rows
        .into_iter()
        .take(usize::try_from(limit).unwrap_or(0))
        .collect();
    let around = JobContext::read(&mut connection, &rows).await?;
    let now = app.clock.now();
    let items: Vec<JobLine> = rows.iter().map(|row| around.line(row, now)).collect();
    let next = if more {
        items.last().map(|last| last.name.clone())
    } else {
        // What was searched ends here; older jobs may match as well.
        let rest = filter.from.filter(|from| *from > 1);
        rest.map(|from| ShortName::Job.name(from))
    };
    Ok(Page { items, next })
}

/// One job, by id or short name.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<Job> {
    let mut connection = app.store.people().await?;
    let row = find(&mut connection, who, text).await?;
    Ok(whole(&mut connection, row, app.clock.now()).await?)
}

/// Everything about a job.
pub async fn whole(connection: &mut Connection, row: job::Job, now: Moment) -> Result<Job, Error> {
    let around = JobContext::read(connection, std::slice::from_ref(&row)).await?;
    let mut attempts = Vec::new();
    for one in around
        .attempts
        .get(&row.id.0)
        .map(Vec::as_slice)
        .unwrap_or_default()
    {
        let end = wait_end(one, now);
        let (strand, ready, assigned) = (one.strand_id.0, one.ready_at.0, one.assigned_at.0);
        let stays = if one.imported {
            vec![StrandStay::unknown(ready)]
        } else {
            strand_visit::stays(connection, in_line(&row), strand, ready, assigned).await?
        };
        attempts.push(Attempt {
            id: one.id.0,
            number: one.number.max(0).unsigned_abs(),
            state: one.state.0,
            runner: one.runner.clone(),
            runner_id: one.runner_id.0,
            pool: one.pool.clone(),
            result: one.result.map(|result| result.0),
            accepted: one.accepted,
            message: one.message.clone(),
            exit_code: one.exit_code,
            ready_at: one.ready_at.0,
            assigned_at: one.assigned_at.0,
            started_at: one.started_at.map(|at| at.0),
            exited_at: one.exited_at.map(|at| at.0),
            finished_at: one.finished_at.map(|at| at.0),
            wait_us: end.since(one.ready_at.0).into(),
            wait: split(ready, Some(assigned), end, &stays),
            phases: one.phases.0.clone(),
            processor_us: one.processor_us.map(|micros| micros.0),
            peak_memory: one.peak_memory.map(stored_size),
            bytes_read: one.bytes_read.map(stored_size),
            bytes_written: one.bytes_written.map(stored_size),
            log_bytes: stored_size(one.log_bytes),
            log_capped: one.log_capped,
        });
    }
    let waiting = waiting_spans(connection, &row, now).await?;
    let held_for = held_for(connection, &row).await?;
    Ok(Job {
        line: around.line(&row, now),
        run: ShortName::Run.name(row.run_number),
        is_of_sheet: row.is_of_sheet,
        held_for,
        band: row.band.0,
        seats: row.seats.0,
        trust: row.trust.0,
        give_up_at: row.give_up_at.map(|at| at.0),
        released_by: row.released_by.clone(),
        retried_as: row.retried_as.map(|number| ShortName::Job.name(number)),
        command: row.command.0,
        commands: row.commands.0,
        variables: row.variables.0,
        secrets: row.secrets.0,
        time_limit_us: row.time_limit_us.0,
        tries: row.tries.max(0).unsigned_abs(),
        ready_at: row.ready_at.map(|at| at.0),
        message: row.message,
        exit_code: row.exit_code,
        hint: None,
        waiting,
        attempts,
        now,
    })
}

/// What a held job waits for, in words.
async fn held_for(connection: &mut Connection, row: &job::Job) -> Result<Option<String>, Error> {
    if row.state.0 != JobState::Held {
        return Ok(None);
    }
    let Some(run) = run::of_job(connection, row.id.0).await? else {
        return Ok(None);
    };
    let rows = run::graph(connection, run).await?;
    let jobs: Vec<GraphJob> = rows.iter().map(GraphRow::job).collect();
    let own = rows.iter().position(|one| one.id == row.id);
    let own = own.and_then(|position| jobs.get(position));
    Ok(own.and_then(|own| pennine_core::run::held_for(own, &jobs)))
}

/// The wait that has not led to an attempt: it goes on, or the job ended in it.
pub async fn waiting_spans(
    connection: &mut Connection,
    row: &job::Job,
    now: Moment,
) -> Result<Vec<Span>, Error> {
    let until = match (waits(row), row.finished_at) {
        (true, _) => now,
        (false, Some(finished)) if row.current_attempt.is_none() => finished.0,
        _ => return Ok(Vec::new()),
    };
    let Some(since) = row.waits_since else {
        return Ok(Vec::new());
    };
    let stays =
        strand_visit::stays(connection, in_line(row), row.strand_id.0, since.0, until).await?;
    Ok(split(since.0, None, until, &stays))
}
