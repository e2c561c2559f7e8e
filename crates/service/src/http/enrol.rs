//! A machine joins.

use super::answer::{Answer, Failure};
use super::body::{JsonBody, check_labels, check_name};
use super::runner_protocol::{check_protocol, check_slots};
use crate::app::App;
use crate::secret::{self, Purpose};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_core::id::Short;
use pennine_core::lifecycle::runner::{RunnerEvent, RunnerState};
use pennine_core::time::Moment;
use pennine_store::connect::in_transaction;
use pennine_store::runner::{self, About};
use pennine_store::{Connection, audit, ticket};
use pennine_wire::runner_protocol::{Enrol, Enrolled};
use serde_json::json;

/// A machine joins with its ticket.
pub async fn enrol(
    State(app): State<App>,
    JsonBody(sent): JsonBody<Enrol>,
) -> Answer<(StatusCode, Json<Enrolled>)> {
    check_protocol(sent.protocol)?;
    check_name("name", &sent.name)?;
    check_slots(sent.slots)?;
    let labels = check_labels("labels", &sent.labels)?;
    let credential = secret::fresh(Purpose::Credential);
    let now = app.clock.now();
    let mut connection = app.store.get().await?;
    let joined = in_transaction(&mut connection, async |connection| {
        enrol_within(connection, &sent, &labels, &credential, now).await
    })
    .await;
    let found = match joined {
        Err(EnrolEnd::Record(pennine_store::Error::Duplicate(_))) => {
            let said = format!("the pool has a runner named {:?} already", sent.name);
            return Err(
                Failure::conflict("exists-already", "The name is taken", said)
                    .field("name")
                    .mend("choose another with --name; the ticket can still be used"),
            );
        }
        Err(EnrolEnd::Record(error)) => return Err(error.into()),
        Err(EnrolEnd::Refused(failure)) => return Err(*failure),
        Ok(found) => found,
    };
    let short = Short::Runner.name(found.runner_number);
    audit::write(
        &mut connection,
        now,
        &Short::Ticket.name(found.number),
        "runner.join",
        &short,
        json!({"name": sent.name}),
    )
    .await?;
    app.feed.kick();
    Ok((
        StatusCode::CREATED,
        Json(Enrolled {
            runner: found.runner_id.0,
            short,
            name: sent.name,
            pool: found.pool,
            credential,
            installation: app.installation.id,
            installation_name: app.installation.name.clone(),
        }),
    ))
}

/// How enrolling can end early.
enum EnrolEnd {
    Record(pennine_store::Error),
    Refused(Box<Failure>),
}

impl From<pennine_store::Error> for EnrolEnd {
    fn from(error: pennine_store::Error) -> Self {
        EnrolEnd::Record(error)
    }
}

async fn enrol_within(
    connection: &mut Connection,
    sent: &Enrol,
    labels: &[String],
    credential: &str,
    now: Moment,
) -> Result<ticket::Ticket, EnrolEnd> {
    let refuse = |failure: Failure| EnrolEnd::Refused(Box::new(failure.field("ticket")));
    let Some(found) = ticket::by_secret(connection, &secret::hash(sent.ticket.trim())).await?
    else {
        return Err(refuse(
            Failure::forbidden("unknown-ticket", "The ticket is not known here", "this service never made this ticket")
                .mend("check that the whole ticket was copied and that --server is the service that made it"),
        ));
    };
    if let Some(used) = found.used_at {
        let said = format!("the ticket was used at {}", used.0);
        return Err(refuse(
            Failure::gone("used-ticket", "The ticket was used already", said).mend(format!(
                "make a new one: pennine ticket add --pool {}",
                found.pool
            )),
        ));
    }
    if found.expires_at.0 <= now {
        let said = format!("the ticket expired at {}", found.expires_at.0);
        return Err(refuse(
            Failure::gone("expired-ticket", "The ticket has expired", said).mend(format!(
                "make a new one: pennine ticket add --pool {}",
                found.pool
            )),
        ));
    }
    let about = About {
        facts: &sent.facts,
        labels,
        slots: sent.slots,
        program: &sent.version,
    };
    let Ok(to) = RunnerState::Awaited.after(RunnerEvent::Enrol) else {
        return Err(refuse(Failure::gone(
            "used-ticket",
            "The ticket was used already",
            "its runner has joined",
        )));
    };
    let hash = secret::hash(credential);
    if !runner::enrol(
        connection,
        found.runner_id.0,
        &sent.name,
        &about,
        &hash,
        to,
        now,
    )
    .await?
    {
        return Err(refuse(Failure::gone(
            "expired-ticket",
            "The ticket has ended",
            "the runner it was for is retired",
        )));
    }
    ticket::mark_used(connection, found.id.0, now).await?;
    Ok(found)
}
