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
    /// How many machines may join with it; 1 when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uses: Option<u32>,
    /// What they may be called: a name in which `*` stands for anything; anything when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub names: Option<String>,
    /// Labels that they get with it, whatever they say themselves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    /// Another ticket, by its short name, whose lifetime, uses, names and labels are taken where they are not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
}

/// A ticket.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Ticket {
    pub id: TicketId,
    /// Its short name, `t-7`.
    pub name: String,
    /// The pool that its runner will be in.
    pub pool: String,
    /// `open`, `used`, `expired` or `revoked`.
    pub state: String,
    pub created_at: Moment,
    pub created_by: String,
    pub expires_at: Moment,
    /// How many machines may join with it, and how many have.
    pub uses: u32,
    pub used: u32,
    /// What they may be called.
    pub names: String,
    /// Labels that they get with it.
    #[serde(default)]
    pub labels: Vec<String>,
    /// The runner that it is for, when that is one: `awaited` until the machine joins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<RunnerId>,
    /// That runner's short name, `r-18`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner_name: Option<String>,
}

/// A ticket just made. The secret is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeTicket {
    #[serde(flatten)]
    pub ticket: Ticket,
    /// What the machine shows when it joins.
    pub secret: String,
    /// The command to run on a bare machine: it fetches the runner's program from the service, checks it and joins.
    #[serde(default)]
    pub install: String,
    /// The command to run on a machine that has the program.
    pub command: String,
}
