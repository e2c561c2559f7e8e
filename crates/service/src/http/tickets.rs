//! Tickets.

use super::answer::{Answer, Failure, created};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use crate::app::App;
use crate::secret::{self, Purpose};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::id::{RunnerId, Short, TicketId};
use pennine_core::time::{Micros, Moment};
use pennine_store::ticket::NewTicket as Row;
use pennine_store::{audit, pool, ticket};
use pennine_wire::{MadeTicket, NewTicket, Page, Problem, Ticket};
use serde_json::json;
use std::time::Duration;

const HOUR: Duration = Duration::from_secs(3600);
const LONGEST: Duration = Duration::from_secs(30 * 86_400);

fn shown(ticket: &ticket::Ticket, now: Moment) -> Ticket {
    let state = match ticket.used_at {
        Some(_) => "used",
        None if ticket.expires_at.0 <= now => "expired",
        None => "open",
    };
    Ticket {
        id: ticket.id.0,
        name: Short::Ticket.name(ticket.number),
        pool: ticket.pool.clone(),
        state: state.to_owned(),
        created_at: ticket.created_at.0,
        expires_at: ticket.expires_at.0,
        runner: ticket.runner_id.0,
        runner_name: Short::Runner.name(ticket.runner_number),
    }
}

/// The tickets, newest first.
#[utoipa::path(get, operation_id = "list_tickets", path = "/tickets", tag = "yard", responses((status = 200, body = Page<Ticket>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Ticket>>> {
    let now = app.clock.now();
    let mut connection = app.store.get().await?;
    let items = ticket::list(&mut connection, 200)
        .await?
        .iter()
        .map(|ticket| shown(ticket, now))
        .collect();
    Ok(Json(Page { items, next: None }))
}

/// Make a ticket for a pool. The answer holds the secret, this once, and the command to run on the machine.
#[utoipa::path(post, operation_id = "add_ticket", path = "/pools/{pool}/tickets", tag = "yard", request_body = NewTicket,
    params(("pool" = String, Path, description = "its name")),
    responses((status = 201, body = MadeTicket), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(new): JsonBody<NewTicket>,
) -> Answer<(StatusCode, Json<MadeTicket>)> {
    who.require(Role::Operator)?;
    let lifetime = Duration::from(new.lifetime_us.unwrap_or(Micros::from(HOUR)));
    if lifetime.is_zero() || lifetime > LONGEST {
        return Err(Failure::invalid(
            "lifetime_us",
            "a ticket lasts more than nothing and at most 30 days",
        ));
    }
    let mut connection = app.store.get().await?;
    let pool = pool::find(&mut connection, &name)
        .await?
        .ok_or_else(|| Failure::unknown("pool", &name))?;
    let secret = secret::fresh(Purpose::Ticket);
    let now = app.clock.now();
    let row = Row {
        id: TicketId(app.fresh_id()),
        pool: pool.pool.id.0,
        runner: RunnerId(app.fresh_id()),
        secret_hash: &secret::hash(&secret),
        by: &who.name,
        at: now,
        expires_at: now + lifetime,
    };
    let made = ticket::insert(&mut connection, row).await?;
    audit::write(
        &mut connection,
        now,
        &who.name,
        "ticket.add",
        &Short::Ticket.name(made.number),
        json!({"pool": name}),
    )
    .await?;
    app.feed.kick();
    let command = format!(
        "pennine-runner join --server {} --ticket {secret}",
        app.public_url
    );
    Ok(created(MadeTicket {
        ticket: shown(&made, now),
        secret,
        command,
    }))
}
