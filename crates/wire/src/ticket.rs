//! Tickets, with which machines join.

use pennine_core::id::{RunnerId, TicketId};
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to make a ticket from. The pool stands in the address.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTicket {
    /// How long it can be used, in microseconds; an hour when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lifetime_us: Option<Micros>,
}

/// A ticket.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Ticket {
    pub id: TicketId,
    /// Its short name, `t-7`.
    pub name: String,
    /// The pool that its runner will be in.
    pub pool: String,
    /// `open`, `used` or `expired`.
    pub state: String,
    pub created_at: Moment,
    pub expires_at: Moment,
    /// The runner that it is for: `awaited` until the machine joins.
    pub runner: RunnerId,
    /// That runner's short name, `r-18`.
    pub runner_name: String,
}

/// A ticket just made. The secret is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeTicket {
    #[serde(flatten)]
    pub ticket: Ticket,
    /// What the machine shows when it joins.
    pub secret: String,
    /// The command to run on the machine.
    pub command: String,
}
