//! The remedies for a wait as actions that a person can press.

use crate::access::{Principal, place_above};
use crate::visible_yard::VisibleYard;
use crate::yard::Yard;
use pennine_core::access::Action;
use pennine_core::count::grouped;
use pennine_core::dispatch::{Availability, EligibilityCounts, Origin, Reason};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::requirement::Requirement;
use pennine_store::waiting_line::LineGroup;
use pennine_wire::RemedyAction;
use serde_json::{Value, json};

/// Runners or holders named at most.
const NAMED: usize = 3;

/// The waiting jobs that the remedy is for.
pub struct Wait<'a> {
    pub reason: Reason,
    pub standing: &'a EligibilityCounts,
    pub origin: Origin<'a>,
    pub requirement: &'a str,
    pub jobs: u64,
    /// The job's short name, where one is asked about.
    pub job: Option<&'a str>,
}

/// What a person can press, of what their role permits.
pub fn actions(wait: &Wait<'_>, yard: &VisibleYard<'_>) -> Vec<RemedyAction> {
    let (who, seen) = (yard.who, &yard.seen);
    let cancel = || {
        let may = who.may(Action::CancelJob, wait.origin.project);
        may.then(|| cancel(wait))
    };
    match wait.reason {
        Reason::Paused => resume(wait, who, seen),
        Reason::TeamLimit => raise_limit(wait, who),
        Reason::SeatTaken if who.may(Action::ManageSeats, "") => take_back(wait, seen),
        Reason::OutOfReach => {
            let mut found = widen(wait, who, seen);
            found.extend(cancel());
            found
        }
        Reason::NeedsApproval => {
            let mut found = approve(wait, who, seen);
            found.extend(cancel());
            found
        }
        Reason::NoMatch => cancel().into_iter().collect(),
        _ => Vec::new(),
    }
}

fn action(
    message: String,
    command: String,
    method: &str,
    path: String,
    body: Value,
) -> RemedyAction {
    RemedyAction {
        message,
        asks: None,
        command,
        method: method.to_owned(),
        path,
        body,
    }
}

/// What a person can press for all jobs of a group: the part of the queue that was asked for (by conditions of this name and
/// value), with one reason and cause.
pub fn of_group(asked: &[(&str, &Option<String>)], group: &LineGroup) -> Vec<RemedyAction> {
    let (reason, jobs) = (group.reason.0, group.jobs.max(0).unsigned_abs());
    if !matches!(reason, Reason::NoMatch | Reason::OutOfReach) || group.strands < 2 {
        return Vec::new();
    }
    let mut body = json!({"action": "cancel", "reason": reason});
    let mut command = format!("pennine queue cancel --reason {reason}");
    let cause = Some(group.cause.clone()).filter(|cause| !cause.is_empty());
    for (name, value) in [("cause", &cause)].iter().chain(asked) {
        if let (Some(value), Some(body)) = (value, body.as_object_mut()) {
            body.insert((*name).to_owned(), json!(value));
            command += &format!(" --{name} {value:?}");
        }
    }
    let jobs = grouped(jobs);
    let path = "/jobs/actions".to_owned();
    let mut found = action(format!("Cancel {jobs} jobs"), command, "POST", path, body);
    found.asks = Some(format!(
        "All {jobs} jobs with this reason will be cancelled; submit them again to run them."
    ));
    vec![found]
}

/// Resumes what is paused and would take these jobs.
fn resume(wait: &Wait<'_>, who: &Principal, yard: &Yard) -> Vec<RemedyAction> {
    let Ok(requirement) = wait.requirement.parse::<Requirement>() else {
        return Vec::new();
    };
    let mut found = Vec::new();
    for (runner, pool) in yard.satisfying(&requirement) {
        let may_resume = who.may(Action::ManageRunner, &pool.owner);
        let is_paused = pool.willingness(runner) == Availability::Paused;
        if !pool.reaches(wait.origin) || !is_paused || !may_resume {
            continue;
        }
        if let Some(window) = yard.window_of(runner.id, pool.id) {
            let message = format!("End the maintenance of {} early", window.of);
            if !found
                .iter()
                .any(|known: &RemedyAction| known.message == message)
            {
                let mut early = action(
                    message,
                    format!("pennine maintenance end {}", window.short()),
                    "POST",
                    format!("/maintenance/{}/end", window.short()),
                    json!({}),
                );
                early.asks = Some(format!(
                    "Scheduled by {} until {}: {}.",
                    window.created_by, window.until_at.0, window.reason
                ));
                found.push(early);
            }
            continue;
        }
        if pool.paused {
            let message = format!("Resume pool {}", pool.name);
            if !found
                .iter()
                .any(|known: &RemedyAction| known.message == message)
            {
                found.push(action(
                    message,
                    format!("pennine pool set {} --resume", pool.name),
                    "PATCH",
                    format!("/pools/{}", pool.name),
                    json!({"paused": false}),
                ));
            }
        }
        if runner.desired_state != DesiredState::Work {
            found.push(action(
                format!("Resume {}", runner.name),
                format!("pennine runner resume {}", runner.name),
                "PUT",
                format!("/runners/{}/desired-state", runner.id),
                json!({"desired_state": DesiredState::Work}),
            ));
        }
        if found.len() >= NAMED {
            break;
        }
    }
    found
}

/// Widens the reach of the pools that have or could make runners for these jobs.
fn widen(wait: &Wait<'_>, who: &Principal, yard: &Yard) -> Vec<RemedyAction> {
    let Ok(requirement) = wait.requirement.parse::<Requirement>() else {
        return Vec::new();
    };
    let mut found: Vec<RemedyAction> = Vec::new();
    let mut pools: Vec<_> = yard.able(&requirement).into_values().collect();
    pools.sort_by_key(|pool| &pool.name);
    for pool in pools {
        let message = format!("Allow the pool {}", pool.name);
        // One that takes trusted jobs only would not take untrusted ones of one more project either.
        let takes_trust = wait.origin.trust.is_trusted() || pool.reach.takes_untrusted;
        if found.len() >= NAMED
            || !takes_trust
            || !who.may(Action::ManagePool, &pool.owner)
            || pool.reaches(Origin::trusted(wait.origin.project))
            || pool.lacks_approval(wait.origin)
        {
            continue;
        }
        let mut widened = pool.reach.widen_to.clone();
        widened.push(wait.origin.project.to_owned());
        let named: Vec<String> = widened
            .iter()
            .map(|path| format!("--widen-to {path}"))
            .collect();
        let mut widened = action(
            message,
            format!("pennine pool set {} {}", pool.name, named.join(" ")),
            "PATCH",
            format!("/pools/{}", pool.name),
            json!({"widen_to": widened}),
        );
        let owner = match pool.owner.as_str() {
            "" => "all teams",
            owner => owner,
        };
        widened.asks = Some(format!(
            "All jobs of {} may then use {}, in addition to those of {owner}.",
            wait.origin.project, pool.name
        ));
        found.push(widened);
    }
    found
}

/// Approves the project's use of the pools that ask for it.
fn approve(wait: &Wait<'_>, who: &Principal, yard: &Yard) -> Vec<RemedyAction> {
    let asking = wait.standing.awaiting_approval.iter();
    let pools = asking.filter_map(|name| yard.pools.iter().find(|pool| pool.pool.name == *name));
    let may = pools.filter(|pool| who.may(Action::ApproveUse, &pool.owner));
    let mut found = Vec::new();
    for pool in may.take(NAMED) {
        let (name, project) = (&pool.pool.name, wait.origin.project);
        let path = format!("/pools/{name}/approvals");
        let mut one = action(
            format!("Approve {project} in {name}"),
            format!("pennine pool approve {name} --project {project}"),
            "POST",
            path.clone(),
            json!({"project": project}),
        );
        one.asks = Some(format!(
            "All jobs of {project} may then use {name}, until the approval is withdrawn."
        ));
        found.push(one);
        found.extend(wait.job.map(|job| {
            action(
                format!("Approve only {job} in {name}"),
                format!("pennine pool approve {name} --job {job}"),
                "POST",
                path,
                json!({"job": job}),
            )
        }));
    }
    found
}

fn raise_limit(wait: &Wait<'_>, who: &Principal) -> Vec<RemedyAction> {
    let limit = wait.standing.limit.as_ref();
    let may = |place: &str| who.may(Action::ChangePlace, place_above(place));
    let Some(limit) = limit.filter(|limit| may(&limit.place)) else {
        return Vec::new();
    };
    let more = limit.limit.max(limit.held) + 1;
    vec![action(
        format!("Raise the limit of {} to {more}", limit.place),
        format!("pennine place set {} --limit {more}", limit.place),
        "PATCH",
        format!("/places/{}", limit.place.replace('/', "%2F")),
        json!({"limit": more}),
    )]
}

/// Takes a seat back from the job that has held it longest.
fn take_back(wait: &Wait<'_>, yard: &Yard) -> Vec<RemedyAction> {
    let short = wait.standing.seats.iter().filter(|seat| seat.is_short());
    short
        .filter_map(|seat| {
            let holder = yard
                .holdings
                .iter()
                .find(|holding| holding.name == seat.name && holding.back_at.is_none())?;
            let job = pennine_core::id::ShortName::Job.name(holder.job_number);
            let mut found = action(
                format!("Take the seat back from {job}"),
                format!("pennine seat take-back {} {job} --why TEXT", seat.name),
                "POST",
                format!("/seats/{}/take-back", seat.name),
                json!({"job": job, "reason": "another job waits for it"}),
            );
            found.asks = Some(format!(
                "{job} of {} has held it since {} and continues without it; two jobs may then use it at once.",
                holder.project, holder.since.0
            ));
            Some(found)
        })
        .take(NAMED)
        .collect()
}

fn cancel(wait: &Wait<'_>) -> RemedyAction {
    let (jobs, them) = match wait.jobs {
        1 => ("1 job".to_owned(), "it"),
        n => (format!("{n} jobs"), "them"),
    };
    let mut found = action(
        format!("Cancel {jobs}"),
        format!(
            "pennine queue cancel --reason {} --project {} --where {:?}",
            wait.reason, wait.origin.project, wait.requirement
        ),
        "POST",
        "/jobs/actions".to_owned(),
        json!({"action": "cancel", "reason": wait.reason, "project": wait.origin.project, "where": wait.requirement}),
    );
    found.asks = Some(format!(
        "{jobs} of {} that wait for {:?} will be cancelled; submit {them} again to run them.",
        wait.origin.project, wait.requirement
    ));
    found
}
