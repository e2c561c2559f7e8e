//! Tickets.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{MadeTicket, NewTicket, Page, Problem, Ticket};

/// The tickets, newest first.
#[utoipa::path(get, operation_id = "list_tickets", path = "/tickets", tag = "yard", responses((status = 200, body = Page<Ticket>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Ticket>>> {
    Ok(Json(views::runners::ticket::list(&app, &who).await?))
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
) -> Answer<(StatusCode, HoldsSecret, Json<MadeTicket>)> {
    Ok(created_secret(
        operations::runners::ticket::add(&app, &who, &name, new).await?,
    ))
}

/// Revoke a ticket. Machines that have joined with it stay.
#[utoipa::path(post, operation_id = "revoke_ticket", path = "/tickets/{ticket}/revoke", tag = "yard",
    params(("ticket" = String, Path, description = "its id or short name (t-7)")),
    responses((status = 200, body = Ticket), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn revoke(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Ticket>> {
    Ok(Json(
        operations::runners::ticket::revoke(&app, &who, &text).await?,
    ))
}
