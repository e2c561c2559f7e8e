//! Runs: submitting the jobs of a sheet, and cancelling, releasing and retrying them.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::installation::idempotency::PlannedId;
use crate::operations::jobs::run_graph::{advance, try_again};
use crate::operations::jobs::source;
use crate::operations::jobs::submission::{check, check_seats, vocabulary};
use crate::operations::people::secret::check_uses;
use crate::operations::transaction::commit;
use crate::validation::shortened;
use crate::views;
use crate::views::jobs::run::{find, whole};
use pennine_core::access::Action;
use pennine_core::dispatch::{SeatNeeds, StrandKey};
use pennine_core::id::{JobId, PlaceId, RunId, ShortName};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::requirement::{Requirement, Vocabulary};
use pennine_core::run::{self, GraphJob, Step};
use pennine_core::secret::SecretUses;
use pennine_core::sheet::{Occasion, Sheet, SheetJob, Work};
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use pennine_store::run::{self as runs, GraphRow, NewGraphJob};
use pennine_store::{Connection, audit, job, source_archive};
use pennine_wire::{NewJob, NewRun, Run, RunHint, RunRetry, TakenRun};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};

/// The event of a run that was submitted without one.
const MANUAL: &str = "manual";

/// Mistakes of a sheet that one answer names.
const SHOWN_MISTAKES: usize = 20;

/// The most bytes of a title that is made of the names of jobs.
const TITLE_TEXT: usize = 80;

/// Jobs of a run that one answer names.
const SHOWN_JOBS: usize = 20;

/// The sheet of a run, with its overrides.
///
/// # Errors
/// Invalid, with each mistake's line and column, or with what is wrong about the overrides.
fn parse(new: &NewRun) -> Result<Sheet> {
    let sheet = Sheet::with_values(&new.sheet, &new.values).map_err(|mistakes| {
        let mut lines: Vec<String> = mistakes
            .iter()
            .take(SHOWN_MISTAKES)
            .map(ToString::to_string)
            .collect();
        if mistakes.len() > SHOWN_MISTAKES {
            lines.push(format!(
                "and {} more mistakes",
                mistakes.len() - SHOWN_MISTAKES
            ));
        }
        ServiceError::invalid("sheet", lines.join("; "))
            .remedy("correct the sheet; pennine sheet check finds the same mistakes")
    })?;
    let overridden = sheet.overridden(&new.overrides);
    overridden.map_err(|error| ServiceError::invalid("overrides", error.to_string()))
}

/// Checks the short texts of a run.
fn check_texts(new: &NewRun) -> Result<()> {
    let texts = [
        ("title", &new.title),
        ("branch", &new.branch),
        ("revision", &new.revision),
        ("event", &new.event),
    ];
    for (field, text) in texts {
        let Some(text) = text else { continue };
        if text.trim().is_empty() || text.len() > 200 || text.chars().any(char::is_control) {
            let message = format!("a {field} has 1 to 200 bytes and no control characters");
            return Err(ServiceError::invalid(field, message));
        }
    }
    Ok(())
}

/// Checks the repository of a run: the run has no archive, too, and no other revision.
fn check_repository(new: &NewRun) -> Result<()> {
    let Some(repository) = &new.repository else {
        return Ok(());
    };
    let checked = repository.check();
    checked.map_err(|error| ServiceError::invalid("repository", error.to_string()))?;
    if new.source.is_some() {
        let message = "the jobs of a run begin with an archive or with a repository, not with both";
        return Err(ServiceError::invalid("source", message));
    }
    if (new.revision.as_ref()).is_some_and(|revision| *revision != repository.revision) {
        let message = "the run's revision is that of its repository: leave it out";
        return Err(ServiceError::invalid("revision", message));
    }
    Ok(())
}

/// The variables of a job: the run's values, the values of its combination, its own variables, and what the run is of.
fn variables(job: &SheetJob, sheet: &Sheet, occasion: &Occasion) -> BTreeMap<String, String> {
    let mut variables = sheet.values.clone();
    variables.extend(job.varied.clone());
    variables.extend(job.variables.clone());
    let known = [
        ("PENNINE_BRANCH", &occasion.branch),
        ("PENNINE_REVISION", &occasion.revision),
        ("PENNINE_EVENT", &occasion.event),
    ];
    for (name, value) in known {
        if let Some(value) = value {
            variables.insert(name.to_owned(), value.clone());
        }
    }
    variables
}

/// A job of a sheet as one that could be submitted alone: it is checked in the same way.
fn alone(job: &SheetJob, sheet: &Sheet, new: &NewRun, occasion: &Occasion) -> NewJob {
    NewJob {
        project: new.project.clone(),
        requirement: job.requirement.to_string(),
        command: job.work.command(),
        title: Some(job.name.clone()),
        variables: variables(job, sheet, occasion),
        secrets: job.secrets.clone(),
        time_limit_us: job.time_limit.map(Micros::from),
        tries: None,
        strict: false,
        band: job.band,
        seats: job.seats.clone().into_iter().collect::<SeatNeeds>(),
        trust: new.trust,
        give_up_us: job.give_up.map(Micros::from),
        fail_unmatched: job.fail_unmatched,
    }
}

/// Says of which job an error is.
fn of_job(error: ServiceError, job: &SheetJob) -> ServiceError {
    error.about(&format!("the job {} (line {})", job.name, job.line))
}

/// What decides about the strand of a job, beside its sheet.
struct Submitted<'a> {
    who: &'a Principal,
    project: PlaceId,
    path: &'a str,
    patience: Option<Micros>,
    trust: Trust,
}

/// The jobs of a run, checked, with their strands. Those without anything to wait for are pending.
async fn made(
    app: &App,
    connection: &mut Connection,
    sheet: &Sheet,
    checked: Vec<NewJob>,
    by: &Submitted<'_>,
) -> Result<Vec<NewGraphJob>> {
    let mut asked: BTreeMap<(String, SecretUses), String> = BTreeMap::new();
    let mut seats_checked: BTreeSet<SeatNeeds> = BTreeSet::new();
    let mut made = Vec::with_capacity(checked.len());
    for (position, (job, new)) in sheet.jobs.iter().zip(checked).enumerate() {
        let limits = check(&new).map_err(|error| of_job(error, job))?;
        if seats_checked.insert(new.seats.clone()) {
            let seats = check_seats(connection, &new.seats).await;
            seats.map_err(|error| of_job(error, job))?;
        }
        // With the pools in which its secrets may be received.
        let text = new.requirement.trim().to_owned();
        let key = (text.clone(), new.secrets.clone());
        if !asked.contains_key(&key) {
            let uses = check_uses(connection, by.who, by.path, new.trust, &new.secrets, &text);
            let narrowed = uses.await.map_err(|error| of_job(error, job))?;
            asked.insert(key.clone(), narrowed);
        }
        let requirement = asked.get(&key).cloned().unwrap_or(text);
        let parsed: Requirement = requirement
            .parse()
            .map_err(|error| of_job(ServiceError::requirement("where", error), job))?;
        let strand = StrandKey {
            requirement: parsed.to_string(),
            project: by.project,
            band: new.band,
            seats: new.seats.clone(),
            workspace: None,
            trust: by.trust,
            approved_in: BTreeSet::new(),
        };
        made.push(NewGraphJob {
            id: JobId(app.fresh_id()),
            position,
            strand: app.strand(connection, &strand).await?,
            state: JobState::Held,
            title: limits.title,
            requirement,
            command: new.command,
            commands: match &job.work {
                Work::Commands(lines) => lines.clone(),
                Work::Script(_) => Vec::new(),
            },
            variables: new.variables,
            secrets: new.secrets,
            time_limit: limits.time_limit.into(),
            tries: limits.tries,
            band: new.band,
            seats: new.seats,
            trust: by.trust,
            give_up: new.give_up_us.or(by.patience),
            fail_unmatched: new.fail_unmatched,
            needs: job.after.clone(),
            on_failure: job.on_failure,
            failure_tries: job.tries,
            hold: job.is_held,
        });
    }
    let parts: Vec<GraphJob> = made.iter().map(part).collect();
    for (position, step) in run::advance(&parts) {
        if let (Step::Ready, Some(job)) = (step, made.get_mut(position)) {
            job.state = JobState::Pending;
        }
    }
    Ok(made)
}

/// A new job as its part in the graph.
fn part(job: &NewGraphJob) -> GraphJob {
    GraphJob {
        name: job.title.clone(),
        state: job.state,
        result: None,
        needs: job.needs.clone(),
        on_failure: job.on_failure,
        needs_release: job.hold,
        is_assigned: false,
        is_settled: false,
    }
}

/// Submits the jobs of a sheet. With a planned id, a run that has it already is the one that is submitted: an earlier request got so
/// far and no further.
///
/// # Errors
/// Invalid where the sheet has mistakes, or a job could not be submitted alone; forbidden where the person may not submit there.
pub async fn submit(
    app: &App,
    who: &Principal,
    planned: Option<PlannedId>,
    new: NewRun,
) -> Result<TakenRun> {
    check_texts(&new)?;
    let occasion = Occasion {
        branch: new.branch.clone(),
        revision: match &new.repository {
            Some(repository) => Some(repository.revision.clone()),
            None => new.revision.clone(),
        },
        event: Some(new.event.clone().unwrap_or_else(|| MANUAL.to_owned())),
    };
    let sheet = parse(&new)?.for_occasion(&occasion);
    if sheet.jobs.is_empty() {
        let message = "no job of the sheet applies to this run";
        return Err(ServiceError::invalid("sheet", message)
            .remedy("give the branch, event or values that a job applies to"));
    }
    let mut connection = app.store.people().await?;
    if let Some(planned) = planned.filter(|planned| planned.may_exist)
        && let Some(taken) = taken_before(app, &mut connection, planned).await?
    {
        return Ok(taken);
    }
    let project = views::people::place::project(app, &mut connection, who, &new.project)
        .await
        .map_err(|failure| failure.field("project"))?;
    let permit = who.require(Action::SubmitJob, &project.path)?;
    source::check(&mut connection, new.source, project.id.0).await?;
    check_repository(&new)?;
    let checked: Vec<NewJob> = (sheet.jobs.iter())
        .map(|job| alone(job, &sheet, &new, &occasion))
        .collect();
    let by = Submitted {
        who,
        project: project.id.0,
        path: &project.path,
        patience: project.give_up_us.map(|give_up| give_up.0),
        trust: new.trust,
    };
    let jobs = made(app, &mut connection, &sheet, checked, &by).await?;
    let known = app.vocabulary(async || vocabulary(&mut connection, app.clock.now()).await);
    let hints = hints(&*known.await?, &sheet);
    drop(connection);
    let id = RunId(planned.map_or_else(|| app.fresh_id(), |planned| planned.id));
    let title = title(&new, &sheet);
    let taken = commit(app, async |connection| {
        let at = app.clock.now();
        let count = jobs.len();
        let number = runs::submit(
            connection,
            runs::NewRun {
                id,
                project: project.id.0,
                title,
                branch: new.branch.clone(),
                revision: occasion.revision.clone(),
                event: occasion.event.clone(),
                values: sheet.values.clone(),
                sheet: new.sheet.clone(),
                source: new.source,
                repository: new.repository.as_ref().map(|one| one.url.clone()),
                overrides: new.overrides.clone(),
                newer_run: sheet.newer_run,
                jobs,
                by: permit.clone(),
                at,
            },
        )
        .await?;
        let name = ShortName::Run.name(number);
        if let Some(branch) = &new.branch {
            overtake(connection, (project.id.0, branch), (id, number), at).await?;
        }
        let detail = json!({"jobs": count, "overrides": new.overrides.describe()});
        audit::write(connection, at, &permit, "run.submit", &name, detail).await?;
        let run = find(connection, who, &name).await?;
        whole(connection, &run, at).await
    });
    match taken.await {
        Ok(run) => Ok(TakenRun { run, hints }),
        // The request before was only slow: it has made the run by now.
        Err(error) => match planned {
            Some(planned) => {
                let mut connection = app.store.people().await?;
                taken_before(app, &mut connection, planned)
                    .await?
                    .ok_or(error)
            }
            None => Err(error),
        },
    }
}

/// What a run is called: its own title, or the names of its jobs.
fn title(new: &NewRun, sheet: &Sheet) -> String {
    if let Some(title) = &new.title {
        return title.trim().to_owned();
    }
    let mut names: Vec<&str> = sheet.jobs.iter().map(|job| job.base.as_str()).collect();
    names.dedup();
    shortened(&names.join(", "), TITLE_TEXT).to_owned()
}

fn hints(known: &Vocabulary, sheet: &Sheet) -> Vec<RunHint> {
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let mut hints = Vec::new();
    for job in &sheet.jobs {
        if job.requirement.is_any() || !seen.insert(job.requirement.to_string()) {
            continue;
        }
        let found = known.hints(&job.requirement).into_iter();
        hints.extend(found.map(|hint| RunHint {
            job: job.name.clone(),
            hint,
        }));
    }
    hints
}

/// The run that an earlier request with the same key has submitted, if it got so far.
async fn taken_before(
    app: &App,
    connection: &mut Connection,
    planned: PlannedId,
) -> Result<Option<TakenRun>> {
    let Some(run) = runs::find(connection, Some(RunId(planned.id)), None).await? else {
        return Ok(None);
    };
    let run = whole(connection, &run, app.clock.now()).await?;
    let hints = Vec::new();
    Ok(Some(TakenRun { run, hints }))
}

/// Cancels the open runs of the branch that are not to go on beside a newer one.
async fn overtake(
    connection: &mut Connection,
    (project, branch): (PlaceId, &str),
    (newer, number): (RunId, i64),
    at: Moment,
) -> Result<()> {
    let overtaken = runs::lock_overtaken(connection, project, branch, newer).await?;
    let name = ShortName::Run.name(number);
    for run in &overtaken {
        cancel_open(
            connection,
            *run,
            &format!("{name}, which has overtaken it"),
            at,
        )
        .await?;
    }
    Ok(runs::set_overtaken(connection, &overtaken, number).await?)
}

/// Cancels the jobs of a run that are not done. Needs its lock.
async fn cancel_open(
    connection: &mut Connection,
    run: RunId,
    by: &str,
    at: Moment,
) -> Result<usize> {
    let rows = runs::graph(connection, run).await?;
    let open = rows.iter().filter(|row| row.state.0 != JobState::Done);
    let open: Vec<JobId> = open.map(|row| row.id.0).collect();
    let cancelled = job::cancel_all(connection, &open, by, at).await?;
    advance(connection, run, at).await?;
    Ok(cancelled.len())
}

/// Cancels every job of a run that is not done. Cancelling twice does no harm.
///
/// # Errors
/// Unknown or forbidden, as for a job.
pub async fn cancel(app: &App, who: &Principal, text: &str) -> Result<Run> {
    commit(app, async |connection| {
        let row = find(connection, who, text).await?;
        let permit = who.require(Action::CancelJob, &row.project)?;
        let at = app.clock.now();
        let cancelled = if row.has_sheet {
            runs::lock(connection, row.id.0).await?;
            cancel_open(connection, row.id.0, &who.name, at).await?
        } else {
            let only: Vec<JobId> = job::of_run(connection, row.id.0)
                .await?
                .iter()
                .map(|job| job.id.0)
                .collect();
            job::cancel_all(connection, &only, &who.name, at)
                .await?
                .len()
        };
        if cancelled > 0 {
            let (name, detail) = (ShortName::Run.name(row.number), json!({"jobs": cancelled}));
            audit::write(connection, at, &permit, "run.cancel", &name, detail).await?;
        }
        Ok(())
    })
    .await?;
    views::jobs::run::show(app, who, text).await
}

/// Releases a job that waits for a person.
///
/// # Errors
/// A conflict where it does not wait for that.
pub async fn release(app: &App, who: &Principal, text: &str) -> Result<Run> {
    let run = commit(app, async |connection| {
        let row = views::jobs::job::find(connection, who, text).await?;
        let permit = who.require(Action::SubmitJob, &row.project)?;
        let name = ShortName::Job.name(row.number);
        let refused = || {
            let message = format!("{name} does not wait for a person to release it");
            ServiceError::conflict("not-held", "The job is not held", message)
        };
        let run = runs::of_job(connection, row.id.0)
            .await?
            .ok_or_else(refused)?;
        runs::lock(connection, run).await?;
        let at = app.clock.now();
        if !runs::release(connection, row.id.0, &who.name, at).await? {
            return Err(refused());
        }
        audit::write(connection, at, &permit, "job.release", &name, json!({})).await?;
        advance(connection, run, at).await?;
        Ok(run)
    })
    .await?;
    views::jobs::run::show(app, who, &run.0.to_string()).await
}

/// Which jobs of a run are meant, as positions.
fn chosen(rows: &[GraphRow], names: &[String]) -> Result<Vec<usize>> {
    if names.is_empty() {
        let is_meant = |row: &GraphRow| {
            row.result
                .is_some_and(|result| result.0 != Outcome::Success)
        };
        let meant = rows.iter().enumerate().filter(|(_, row)| is_meant(row));
        return Ok(meant.map(|(position, _)| position).collect());
    }
    let mut chosen = Vec::new();
    for name in names {
        let number = ShortName::Job.number(name);
        let before = chosen.len();
        for (position, row) in rows.iter().enumerate() {
            // A name means every combination of a job that varies.
            let rest = row.title.strip_prefix(name.as_str());
            let is_named = rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(" ("));
            if Some(row.number) == number || is_named {
                chosen.push(position);
            }
        }
        if chosen.len() == before {
            let known: Vec<&str> = (rows.iter().take(SHOWN_JOBS))
                .map(|row| row.title.as_str())
                .collect();
            let message = format!(
                "the run has no job {name:?}; its jobs: {}",
                known.join(", ")
            );
            return Err(ServiceError::invalid("jobs", message));
        }
    }
    Ok(chosen)
}

/// Tries jobs of a run again: new ones take their places, and what was skipped because of them waits for these.
///
/// # Errors
/// A conflict where none of them is done; invalid where a name is unknown.
pub async fn retry(app: &App, who: &Principal, text: &str, retry: RunRetry) -> Result<Run> {
    commit(app, async |connection| {
        let run = find(connection, who, text).await?;
        let permit = who.require(Action::SubmitJob, &run.project)?;
        let name = ShortName::Run.name(run.number);
        if !run.has_sheet {
            let message = format!("{name} is the run of one job that was submitted alone");
            let error = ServiceError::conflict("no-sheet", "The run has no job sheet", message);
            return Err(error.remedy("to retry the job: pennine queue retry --job JOB"));
        }
        if let Some(source) = run.source_id
            && source_archive::find(connection, source.0).await?.is_none()
        {
            let message = format!("the files with which the jobs of {name} begin were removed");
            let error = ServiceError::conflict("source-removed", "The files were removed", message);
            return Err(error.remedy("submit the run again: pennine run submit"));
        }
        runs::lock(connection, run.id.0).await?;
        let at = app.clock.now();
        let chosen = |rows: &[GraphRow]| chosen(rows, &retry.jobs);
        let with_dependents = retry.with_dependents;
        let count = try_again(app, connection, run.id.0, chosen, with_dependents, at).await?;
        if count == 0 {
            let message = match retry.jobs.is_empty() {
                true => format!("no job of {name} has ended without success"),
                false => "none of these jobs is done".to_owned(),
            };
            let title = "No job to retry";
            return Err(ServiceError::conflict("nothing-to-retry", title, message));
        }
        let detail = json!({"jobs": count});
        audit::write(connection, at, &permit, "run.retry", &name, detail).await?;
        Ok(())
    })
    .await?;
    views::jobs::run::show(app, who, text).await
}
