//! What makes and removes machines, behind one trait.
//!
//! A supplier is asked by the leading replica alone, and by as many of its tasks at once as it likes. Whoever asks has
//! written down what it is about to do, so that everything here may be repeated: an order for a machine that is there
//! makes no second one, and removing what is not there is done already. Each machine carries the installation's id and
//! its own, by which [`Supplier::list`] finds what nobody remembers.
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

use futures::future::BoxFuture;
pub use pennine_core::capacity::Offer;
use pennine_core::id::MachineId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// The most that is kept of what a machine printed while it came up.
pub const CONSOLE_BYTES: usize = 64 << 10;

/// A machine to make.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Order {
    /// Whose it is.
    pub installation: Uuid,
    /// By which it is the same order when it is repeated.
    pub machine: MachineId,
    /// What people call it; its runner's name too.
    pub name: String,
    pub pool: String,
    /// What it is made from, as the supplier understands it; empty for what the supplier makes of itself.
    #[serde(default)]
    pub image: String,
    /// How large it is, as the supplier understands it.
    #[serde(default)]
    pub size: String,
    /// What else the pool says.
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
    pub slots: u32,
}

impl Order {
    /// What `pennine-runner` is started with; the ticket is in [`Self::environment`], where other users of the machine do
    /// not see it.
    pub fn arguments(&self) -> Vec<String> {
        let slots = self.join.slots.to_string();
        ["join", "--work", "--name", &self.name, "--slots", &slots]
            .map(str::to_owned)
            .into()
    }

    /// The variables that it is started with.
    pub fn environment(&self) -> [(&'static str, String); 2] {
        [
            ("PENNINE_URL", self.join.server.clone()),
            ("PENNINE_TICKET", self.join.ticket.clone()),
        ]
    }
}

/// What came of an order.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct PlacedOrder {
    /// What the supplier calls the machine.
    pub reference: String,
    /// Where it is, where the supplier has several places.
    #[serde(default)]
    pub zone: String,
}

/// How a machine is that a supplier has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SuppliedState {
    /// It is on its way.
    Starting,
    /// It runs.
    Running,
    /// It does not run any more, and is there still.
    Stopped,
}

/// A machine that a supplier has.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SuppliedMachine {
    pub machine: MachineId,
    pub reference: String,
    #[serde(default)]
    pub zone: String,
    pub stage: SuppliedState,
    /// The supplier will take it away soon, whatever it does then.
    #[serde(default)]
    pub reclaimed: bool,
    /// What the supplier says of it.
    #[serde(default)]
    pub message: String,
}

/// What can go wrong.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// Nobody knows what came of it: no answer, half an answer. It may have been done.
    #[error("{0}")]
    Unclear(String),
    /// It does not work now; nothing was done.
    #[error("{0}")]
    Unavailable(String),
    /// Asked too often; nothing was done.
    #[error("it was asked too often")]
    RateLimited {
        /// How long it wants to be left alone.
        retry_after: Option<Duration>,
    },
    /// It makes no more machines for this installation; nothing was done.
    #[error("{message}")]
    Quota {
        message: String,
        /// How many it makes, where it says so.
        quota: Option<u32>,
    },
    /// What the pool asks for is not to be had: no such image, a size that is out of stock. Nothing was done.
    #[error("{0}")]
    Refused(String),
}

/// Makes and removes machines. See the crate's head about repeating.
pub trait Supplier: Send + Sync {
    /// Makes a machine. Answers when the supplier has taken the order, not when the machine is up.
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>>;

    /// Removes a machine. It is well done when there is no such machine.
    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>>;

    /// Every machine of this installation that is there.
    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>>;

    /// The end of what a machine printed while it came up; empty where there is nothing.
    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>>;

    /// What it can do.
    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>>;

    /// Whether a machine of this reference is one that this replica's [`Self::list`] would name. Machines on the host of
    /// another replica are not.
    fn sees(&self, reference: &str) -> bool {
        let _ = reference;
        true
    }

    /// How often it may be asked for its list.
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
