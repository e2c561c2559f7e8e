//! Tickets.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_core::id::ShortName;
use pennine_core::time::Moment;
use pennine_store::{Connection, place, ticket};
use pennine_wire::{Page, Ticket};

pub fn shown(ticket: &ticket::Ticket, now: Moment) -> Ticket {
    let state = if ticket.revoked_at.is_some() {
        "revoked"
    } else if ticket.used >= ticket.uses {
        "used"
    } else if ticket.expires_at.0 <= now {
        "expired"
    } else {
        "open"
    };
    Ticket {
        id: ticket.id.0,
        name: ShortName::Ticket.name(ticket.number),
        pool: ticket.pool.clone(),
        state: state.to_owned(),
        created_at: ticket.created_at.0,
        created_by: ticket.created_by.clone(),
        expires_at: ticket.expires_at.0,
        uses: ticket.uses.max(0).unsigned_abs(),
        used: ticket.used.max(0).unsigned_abs(),
        names: ticket.name_pattern.clone(),
        labels: ticket.labels.clone(),
        runner: ticket.runner_id.map(|id| id.0),
        runner_name: ticket
            .runner_number
            .map(|number| ShortName::Runner.name(number)),
    }
}

/// The ticket with this id or short name, where the principal may see all that belongs to its pool.
pub async fn find(
    connection: &mut Connection,
    who: &Principal,
    text: &str,
) -> Result<ticket::Ticket> {
    let id = text.parse().ok();
    let mut found = ticket::find(connection, id, ShortName::Ticket.number(text)).await?;
    if let Some(ticket) = &found
        && !who.sees.is_whole()
    {
        let owner = place::of_pool(connection, ticket.pool_id.0).await?;
        found = found.filter(|_| who.sees.includes(&owner));
    }
    found.ok_or_else(|| ServiceError::unknown("ticket", text))
}

/// The tickets of pools whose owners the principal may see, newest first.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Ticket>> {
    let now = app.clock.now();
    let mut connection = app.store.people().await?;
    let items = ticket::list(&mut connection, who.sees.paths(), 200)
        .await?
        .iter()
        .map(|ticket| shown(ticket, now))
        .collect();
    Ok(Page { items, next: None })
}
