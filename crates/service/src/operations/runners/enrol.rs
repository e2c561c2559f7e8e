//! A machine joins.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::pools::untrusted::refuse_standing;
use crate::operations::runners::ticket::named_so;
use crate::secret::{self, Purpose};
use crate::validation::{
    PROGRAM_TEXT, check_labels, check_name, check_protocol, check_slots, shortened,
};
use pennine_core::access::ActorKind;
use pennine_core::fact::Subject;
use pennine_core::id::{RunnerId, ShortName};
use pennine_core::job_policy::JobPolicy;
use pennine_core::lifecycle::runner::{RunnerEvent, RunnerState};
use pennine_core::overrides::{Override, Overrides, accepted};
use pennine_core::requirement::{Requirement, explain};
use pennine_core::time::Moment;
use pennine_store::audit::Actor;
use pennine_store::change_lock::lock_against_change;
use pennine_store::connect::in_transaction;
use pennine_store::pool::OwnedPool;
use pennine_store::runner;
use pennine_store::runner_facts::{self, MachineReport};
use pennine_store::{Connection, audit, place, pool, ticket, trial};
use pennine_wire::runner_protocol::{Enrol, Enrolled};
use serde_json::json;

/// A machine joins with its ticket.
pub async fn enrol(app: &App, peer: Option<String>, mut sent: Enrol) -> Result<Enrolled> {
    check_protocol(sent.protocol)?;
    sent.facts = accepted(&sent.facts);
    check_name("name", &sent.name)?;
    check_slots(sent.slots)?;
    let labels = check_labels("labels", &sent.labels)?;
    let credential = secret::fresh(Purpose::Credential);
    let now = app.clock.now();
    let mut connection = app.store.people().await?;
    let hash = secret::hash(sent.ticket.trim());
    if trial::joined(&mut connection, &hash, &sent.facts, peer.clone(), now).await? {
        let message = "this machine was a trial: the service has seen it join, and it is removed";
        return Err(ServiceError::gone(
            "trial-over",
            "The trial is over",
            message,
        ));
    }
    let joined = in_transaction(&mut connection, async |connection| {
        let joined = enrol_within(app, connection, &sent, &labels, &credential, now).await?;
        let ticket = ShortName::Ticket.name(joined.ticket.number);
        let owner = place::of_pool(connection, joined.ticket.pool_id.0).await?;
        let mut permit = Actor::named(ActorKind::Runner, ticket).at(owner);
        permit.actor.address.clone_from(&peer);
        audit::write(
            connection,
            now,
            &permit,
            "runner.join",
            &ShortName::Runner.name(joined.number),
            json!({"name": sent.name}),
        )
        .await?;
        Ok(joined)
    })
    .await;
    let JoinedMachine {
        ticket: found,
        runner: runner_id,
        number: runner_number,
        single_use,
        policy,
    } = match joined {
        Err(EnrolEnd::Record(pennine_store::Error::Duplicate(_))) => {
            let message = format!("the pool already has a runner named {:?}", sent.name);
            return Err(ServiceError::taken(message)
                .remedy("choose another name with --name; the ticket is still valid"));
        }
        Err(EnrolEnd::Record(error)) => return Err(error.into()),
        Err(EnrolEnd::Refused(failure)) => return Err(*failure),
        Ok(found) => found,
    };
    let short = ShortName::Runner.name(runner_number);
    app.feed.kick();
    Ok(Enrolled {
        runner: runner_id,
        short,
        name: sent.name,
        pool: found.pool,
        credential,
        installation: app.installation.id,
        installation_name: app.installation.name.clone(),
        single_use,
        policy,
    })
}

/// A machine that has joined.
struct JoinedMachine {
    ticket: ticket::Ticket,
    runner: RunnerId,
    number: i64,
    single_use: bool,
    /// What the jobs of its pool may reach and use.
    policy: JobPolicy,
}

/// How enrolling can end early.
enum EnrolEnd {
    Record(pennine_store::Error),
    Refused(Box<ServiceError>),
}

impl From<pennine_store::Error> for EnrolEnd {
    fn from(error: pennine_store::Error) -> Self {
        EnrolEnd::Record(error)
    }
}

/// Checks that the machine is what its pool needs.
fn check_fit(
    pool: &OwnedPool,
    found: &ticket::Ticket,
    sent: &Enrol,
    labels: &[String],
) -> Result<(), EnrolEnd> {
    let Ok(needs) = pool.pool.needs.parse::<Requirement>() else {
        return Ok(());
    };
    let labels = labels.iter().chain(&found.labels).chain(&pool.pool.labels);
    let subject = Subject::new(
        &sent.name,
        &found.pool,
        labels.map(String::as_str),
        &sent.facts,
    );
    if needs.satisfied_by(&subject) {
        return Ok(());
    }
    let explained = explain(&needs, [(sent.name.as_str(), &subject)]);
    let fails: Vec<String> = explained
        .clauses
        .into_iter()
        .filter(|clause| clause.failing > 0)
        .map(|clause| clause.clause)
        .collect();
    let message = format!(
        "machines of the pool {} must satisfy {needs}; this one fails: {}",
        found.pool,
        fails.join(", ")
    );
    let failure = ServiceError::conflict("machine-unfit", "The machine does not satisfy the pool's needs", message).remedy(
        "pennine-runner facts shows the machine's facts; install or enlarge what is missing and join again. The ticket is still valid",
    );
    Err(EnrolEnd::Refused(Box::new(failure)))
}

/// Refuses a ticket that was revoked, used up or has expired, and one that is for other names.
fn check_ticket(found: &ticket::Ticket, name: &str, now: Moment) -> Result<(), EnrolEnd> {
    let refuse = |failure: ServiceError| EnrolEnd::Refused(Box::new(failure.field("ticket")));
    let another = || format!("add a new one: pennine ticket add --pool {}", found.pool);
    if let Some((at, by)) = found.revoked_at.zip(found.revoked_by.as_ref()) {
        let message = format!("{by} revoked the ticket at {}", at.0);
        let failure = ServiceError::gone("revoked-ticket", "The ticket was revoked", message);
        return Err(refuse(failure.remedy(another())));
    }
    if let Some(used) = found.used_at.filter(|_| found.used >= found.uses) {
        let message = match found.uses {
            1 => format!("the ticket was used at {}", used.0),
            uses => format!(
                "{uses} machines have joined with the ticket, the last at {}",
                used.0
            ),
        };
        let failure = ServiceError::gone("used-ticket", "The ticket was already used", message);
        return Err(refuse(failure.remedy(another())));
    }
    if found.expires_at.0 <= now {
        let message = format!("the ticket expired at {}", found.expires_at.0);
        let failure = ServiceError::gone("expired-ticket", "The ticket has expired", message);
        return Err(refuse(failure.remedy(another())));
    }
    if !named_so(&found.name_pattern, name) {
        let message = format!(
            "the ticket is for names like {}, not {:?}",
            found.name_pattern, name
        );
        let failure =
            ServiceError::forbidden("name-not-wanted", "The ticket is for other names", message);
        let failure = failure
            .field("name")
            .remedy("choose a matching name with --name; the ticket is still valid");
        return Err(EnrolEnd::Refused(Box::new(failure)));
    }
    Ok(())
}

/// Gives the runner the labels of its ticket, as overrides by the ticket's creator.
async fn set_ticket_labels(
    connection: &mut Connection,
    found: &ticket::Ticket,
    (id, name): (RunnerId, &str),
    now: Moment,
) -> Result<(), EnrolEnd> {
    if found.labels.is_empty() {
        return Ok(());
    }
    let has = |label: &String| {
        let (by, at) = (found.created_by.clone(), found.created_at.0);
        (
            label.clone(),
            Override {
                value: true,
                by,
                at,
            },
        )
    };
    let settings = Overrides {
        labels: found.labels.iter().map(has).collect(),
        ..Overrides::default()
    };
    runner_facts::set_settings(connection, id, name, "", &settings, now).await?;
    Ok(())
}

async fn enrol_within(
    app: &App,
    connection: &mut Connection,
    sent: &Enrol,
    labels: &[String],
    credential: &str,
    now: Moment,
) -> Result<JoinedMachine, EnrolEnd> {
    let refuse = |failure: ServiceError| EnrolEnd::Refused(Box::new(failure.field("ticket")));
    let Some(found) = ticket::by_secret(connection, &secret::hash(sent.ticket.trim())).await?
    else {
        return Err(refuse(
            ServiceError::forbidden("unknown-ticket", "Unknown ticket", "this service did not issue this ticket")
                .remedy("check that the whole ticket was copied and that --server is the service that issued it"),
        ));
    };
    check_ticket(&found, &sent.name, now)?;
    lock_against_change(connection, "pool", &found.pool).await?;
    let mut policy = JobPolicy::default();
    if let Some(pool) = pool::get(connection, found.pool_id.0).await? {
        policy = pool.pool.jobs.0;
        check_fit(&pool, &found, sent, labels)?;
        let is_single_use = match found.runner_id {
            Some(id) => {
                let known = runner::list(connection, Some(&[id.0])).await?;
                known.first().is_some_and(|row| row.single_use)
            }
            None => false,
        };
        if !is_single_use {
            refuse_standing(&pool).map_err(|failure| EnrolEnd::Refused(Box::new(failure)))?;
        }
    }
    let id = match found.runner_id {
        Some(id) => id.0,
        None => {
            let id = RunnerId(app.fresh_id());
            ticket::await_one(connection, &found, id, now).await?;
            id
        }
    };
    let about = MachineReport {
        facts: &sent.facts,
        labels,
        slots: sent.slots,
        program: shortened(&sent.version, PROGRAM_TEXT),
        findings: &[],
    };
    let Ok(to) = RunnerState::Awaited.after(RunnerEvent::Enrol) else {
        return Err(refuse(ServiceError::gone(
            "used-ticket",
            "The ticket was already used",
            "its runner has joined",
        )));
    };
    let hash = secret::hash(credential);
    if !runner::enrol(connection, id, &sent.name, &about, &hash, to, now).await? {
        return Err(refuse(ServiceError::gone(
            "expired-ticket",
            "The ticket has ended",
            "its runner is retired",
        )));
    }
    ticket::mark_used(connection, found.id.0, now).await?;
    set_ticket_labels(connection, &found, (id, &sent.name), now).await?;
    let joined = runner::list(connection, Some(&[id])).await?;
    let number = joined.first().map_or(0, |row| row.number);
    let single_use = joined.first().is_some_and(|row| row.single_use);
    Ok(JoinedMachine {
        ticket: found,
        runner: id,
        number,
        single_use,
        policy,
    })
}
