//! Submitting a job.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::installation::idempotency::PlannedId;
use crate::operations::people::secret::check_uses;
use crate::validation::check_variable;
use crate::views;
use crate::views::jobs::job::JobContext;
use crate::yard::Yard;
use pennine_core::access::Action;
use pennine_core::dispatch::{Reason, SeatNeeds, StrandKey};
use pennine_core::id::{JobId, RunId, ShortName};
use pennine_core::lifecycle::job::JobState;
use pennine_core::requirement::{Requirement, Vocabulary};
use pennine_core::time::{Micros, Moment};
use pennine_store::{Connection, job, seat};
use pennine_wire::{JobLine, NewJob, TakenJob};
use std::collections::BTreeSet;
use std::time::Duration;

const HOUR: Duration = Duration::from_secs(3600);

const WEEK: Duration = Duration::from_secs(7 * 86_400);

/// What a job to be made asks, checked.
pub(super) struct Checked {
    requirement: Requirement,
    pub(super) title: String,
    pub(super) time_limit: Duration,
    pub(super) tries: u32,
}

pub(super) fn check(new: &NewJob) -> Result<Checked> {
    let requirement: Requirement = new
        .requirement
        .parse()
        .map_err(|e| ServiceError::requirement("where", e))?;
    let program = new
        .command
        .first()
        .filter(|program| !program.is_empty())
        .ok_or_else(|| {
            ServiceError::invalid(
                "command",
                "the command is empty: give a program and its arguments",
            )
        })?;
    if new.command.iter().map(String::len).sum::<usize>() > 128 << 10 {
        return Err(ServiceError::invalid(
            "command",
            "the command is longer than 128 KiB: put it into a file",
        ));
    }
    if new.command.iter().any(|word| word.contains('\0')) {
        return Err(ServiceError::invalid(
            "command",
            "a word of the command contains a NUL byte",
        ));
    }
    new.trust.check_seats(&new.seats).map_err(|error| {
        ServiceError::invalid("seats", error.to_string())
            .remedy("leave the seats out, or submit the job as trusted")
    })?;
    for (name, value) in &new.variables {
        check_variable("variables", name, value)?;
    }
    let time_limit = Duration::from(new.time_limit_us.unwrap_or(Micros::from(HOUR)));
    if time_limit.is_zero() || time_limit > WEEK {
        return Err(ServiceError::invalid(
            "time_limit_us",
            "a time limit is more than 0 and at most 7 days",
        ));
    }
    let tries = new.tries.unwrap_or(3);
    if !(1..=20).contains(&tries) {
        return Err(ServiceError::invalid("tries", "tries is 1 to 20"));
    }
    if new.give_up_us.is_some_and(|give_up| give_up.0 == 0) {
        return Err(ServiceError::invalid(
            "give_up_us",
            "the time is more than 0; leave it out to wait without limit",
        ));
    }
    let title = match new.title.as_deref().map(str::trim) {
        Some("") | None => program.rsplit('/').next().unwrap_or(program).to_owned(),
        Some(title) => title.to_owned(),
    };
    if title.len() > 200 || title.chars().any(char::is_control) {
        return Err(ServiceError::invalid(
            "title",
            "a title has at most 200 bytes and no control characters",
        ));
    }
    Ok(Checked {
        requirement,
        title,
        time_limit,
        tries,
    })
}

/// Checks that the seats exist, and as many of each.
pub(super) async fn check_seats(connection: &mut Connection, seats: &SeatNeeds) -> Result<()> {
    let known = if seats.is_empty() {
        Vec::new()
    } else {
        seat::list(connection).await?
    };
    for (name, count) in seats {
        let Some(seat) = known.iter().find(|seat| seat.name == *name) else {
            let names: Vec<&str> = known.iter().map(|seat| seat.name.as_str()).collect();
            let message = match names.as_slice() {
                [] => format!("unknown seat {name:?}; no seats exist"),
                names => format!("unknown seat {name:?}; known seats: {}", names.join(", ")),
            };
            return Err(ServiceError::invalid("seats", message)
                .remedy("correct the name, or add the seat: pennine seat add NAME --count N"));
        };
        if *count == 0 || *count > seat.count.max(0).unsigned_abs() {
            let message = format!(
                "the job needs {count} {name} seats; a job can have 1 to {}",
                seat.count
            );
            return Err(ServiceError::invalid(&format!("seats.{name}"), message));
        }
    }
    Ok(())
}

/// Submit a job. With a planned id, a job that has it already is the one that is submitted: an earlier request got so far and
/// no further.
pub async fn submit(
    app: &App,
    who: &Principal,
    planned: Option<PlannedId>,
    new: NewJob,
) -> Result<TakenJob> {
    let checked = check(&new)?;
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
    check_seats(&mut connection, &new.seats).await?;
    // With the pools in which its secrets may be received.
    let asked = check_uses(
        &mut connection,
        who,
        &project.path,
        new.trust,
        &new.secrets,
        new.requirement.trim(),
    )
    .await?;
    let requirement: Requirement = asked
        .parse()
        .map_err(|error| ServiceError::requirement("where", error))?;
    if new.strict {
        let known = vocabulary(&mut connection, app.clock.now()).await?;
        if let Some(hint) = known.hints(&checked.requirement).first() {
            return Err(ServiceError::invalid("where", hint.describe())
                .remedy("correct the word, or submit without strict"));
        }
    }
    let key = StrandKey {
        requirement: requirement.to_string(),
        project: project.id.0,
        band: new.band,
        seats: new.seats.clone(),
        workspace: None,
        trust: new.trust,
        approved_in: BTreeSet::new(),
    };
    let strand = app.strand(&mut connection, &key).await?;
    let at = app.clock.now();
    let id = JobId(planned.map_or_else(|| app.fresh_id(), |planned| planned.id));
    let row = job::NewJob {
        id,
        run: RunId(app.fresh_id()),
        project: project.id.0,
        strand,
        title: checked.title.clone(),
        requirement: asked.clone(),
        command: new.command,
        variables: new.variables,
        secrets: new.secrets,
        time_limit: checked.time_limit.into(),
        tries: checked.tries,
        band: new.band,
        seats: new.seats,
        trust: new.trust,
        give_up: new
            .give_up_us
            .or(project.give_up_us.map(|give_up| give_up.0)),
        fail_unmatched: new.fail_unmatched,
        retries: None,
        by: permit,
        at,
    };
    let numbers = match (job::submit(&mut connection, row).await, planned) {
        // The request before was only slow: it has made the job by now.
        (Err(pennine_store::Error::Duplicate(_)), Some(planned)) => {
            let taken = taken_before(app, &mut connection, planned).await?;
            return taken.ok_or_else(|| ServiceError::unknown("job", &planned.id.to_string()));
        }
        (numbers, _) => numbers?,
    };
    app.feed.kick();
    // The job is on its way; what looks wrong about it is found out meanwhile.
    let hints = if checked.requirement.is_any() {
        Vec::new()
    } else {
        let known = app.vocabulary(async || vocabulary(&mut connection, app.clock.now()).await);
        known.await?.hints(&checked.requirement)
    };
    let line = JobLine {
        id,
        name: ShortName::Job.name(numbers.job),
        title: checked.title,
        project: project.path,
        requirement: asked,
        state: JobState::Pending,
        result: None,
        reason: Some(Reason::Handover),
        runner: None,
        created_at: at,
        started_at: None,
        finished_at: None,
        wait_us: Micros(0),
        ran_us: None,
    };
    Ok(TakenJob { job: line, hints })
}

/// The job that an earlier request with the same key has submitted, if it got so far.
async fn taken_before(
    app: &App,
    connection: &mut Connection,
    planned: PlannedId,
) -> Result<Option<TakenJob>> {
    let Some(row) = job::find(connection, Some(JobId(planned.id)), None).await? else {
        return Ok(None);
    };
    let context = JobContext::read(connection, std::slice::from_ref(&row)).await?;
    let job = context.line(&row, app.clock.now());
    let hints = Vec::new();
    Ok(Some(TakenJob { job, hints }))
}

/// Every word that some runner in the yard knows, or a machine that a pool would make.
pub(super) async fn vocabulary(connection: &mut Connection, now: Moment) -> Result<Vocabulary> {
    let yard = Yard::read(connection, now).await?;
    let made = yard.made();
    let joined = yard.joined().map(|(runner, _)| &runner.subject);
    Ok(Vocabulary::of(joined.chain(&made)))
}
