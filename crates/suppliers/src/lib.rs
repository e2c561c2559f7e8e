//! Suppliers make and remove machines, behind one trait.
//!
//! Only the leading replica calls a supplier, with any number of calls at once. Each call is recorded before it is made, so that every
//! call can be repeated: an order for an existing machine makes no second one, and removing a machine that does not exist succeeds.
//! Each machine carries the installation's id and its own, by which [`Supplier::list`] finds machines that are not on record.
//!
//! - [`local`]: processes on the service's own host.
//! - [`command`]: a program of the user's own.
//! - [`engine`]: containers of an engine with the Engine API.
//! - [`cloud`]: the stand-in cloud that comes with Pennine.
//!
//! Every one passes [`conformance`]. docs/suppliers.md says how to write another.

pub mod cloud;
pub mod command;
pub mod conformance;
pub mod engine;
pub mod local;
pub mod outgoing;
pub mod program;

use futures::future::BoxFuture;
pub use pennine_core::capacity::Offer;
use pennine_core::id::MachineId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// The most console output of a booting machine that is kept.
pub const CONSOLE_BYTES: usize = 64 << 10;

/// An order for a machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Order {
    /// The installation that orders it.
    pub installation: Uuid,
    /// Identifies the order when it is repeated.
    pub machine: MachineId,
    /// Its name, and its runner's name.
    pub name: String,
    pub pool: String,
    /// Its image, as the supplier names it; empty for the supplier's default.
    #[serde(default)]
    pub image: String,
    /// Its size, as the supplier names it.
    #[serde(default)]
    pub size: String,
    /// Further settings of the pool.
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    pub join: Join,
}

/// How the machine's runner joins.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Join {
    /// The service's address, as the machine reaches it.
    pub server: String,
    /// The ticket's secret, for this machine alone.
    pub ticket: String,
    /// The certificate authority that the machine has to trust for the service (PEM), where it is none of the usual ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    pub slots: u32,
}

impl Order {
    /// The arguments of `pennine-runner`; the ticket is in [`Self::environment`], where other users of the machine do not see it.
    pub fn arguments(&self) -> Vec<String> {
        let slots = self.join.slots.to_string();
        ["join", "--work", "--name", &self.name, "--slots", &slots]
            .map(str::to_owned)
            .into()
    }

    /// The environment of `pennine-runner`.
    pub fn environment(&self) -> Vec<(&'static str, String)> {
        let authority = self.join.authority.clone();
        let authority = authority.map(|pem| ("PENNINE_AUTHORITY", pem));
        [
            ("PENNINE_URL", self.join.server.clone()),
            ("PENNINE_TICKET", self.join.ticket.clone()),
        ]
        .into_iter()
        .chain(authority)
        .collect()
    }
}

/// An accepted order.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct PlacedOrder {
    /// The supplier's reference of the machine.
    pub reference: String,
    /// Its location, if the supplier has several.
    #[serde(default)]
    pub zone: String,
}

/// The state of a machine at its supplier.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SuppliedState {
    /// Starting.
    Starting,
    /// Running.
    Running,
    /// Stopped, but not removed.
    Stopped,
}

/// A machine at its supplier.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SuppliedMachine {
    pub machine: MachineId,
    pub reference: String,
    #[serde(default)]
    pub zone: String,
    pub stage: SuppliedState,
    /// Whether the supplier will reclaim it soon.
    #[serde(default)]
    pub reclaimed: bool,
    /// The supplier's message about it.
    #[serde(default)]
    pub message: String,
}

/// The errors of suppliers.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// The outcome is unknown: no answer, or an incomplete one. It may have been done.
    #[error("{0}")]
    Unclear(String),
    /// The supplier is unavailable; nothing was done.
    #[error("{0}")]
    Unavailable(String),
    /// Too many requests; nothing was done.
    #[error("rate limit exceeded")]
    RateLimited {
        /// How long to wait.
        retry_after: Option<Duration>,
    },
    /// The quota is reached; nothing was done.
    #[error("{message}")]
    Quota {
        message: String,
        /// The quota, if it is reported.
        quota: Option<u32>,
    },
    /// The pool's image or size is not available. Nothing was done.
    #[error("{0}")]
    Refused(String),
}

/// Makes and removes machines. See the crate's head about repeating.
pub trait Supplier: Send + Sync {
    /// Orders a machine. Returns when the supplier has accepted the order, not when the machine is up.
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>>;

    /// Removes a machine. Succeeds if it does not exist.
    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>>;

    /// Returns every existing machine of this installation.
    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>>;

    /// Returns the end of a booting machine's console output; empty if there is none.
    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>>;

    /// Returns the supplier's offer.
    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>>;

    /// Whether a machine of this reference is one that this replica's [`Self::list`] would name. Machines on the host of
    /// another replica are not.
    fn sees(&self, reference: &str) -> bool {
        let _ = reference;
        true
    }

    /// How often it may be listed.
    fn list_every(&self) -> Duration {
        Duration::from_secs(10)
    }
}

/// The end of a text, cut where a character begins.
pub fn tail(text: &str, most: usize) -> &str {
    let mut from = text.len().saturating_sub(most);
    while !text.is_char_boundary(from) {
        from += 1;
    }
    text.get(from..).unwrap_or_default()
}
