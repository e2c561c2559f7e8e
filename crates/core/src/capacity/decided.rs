//! What was decided: what to order, to release and to drain, with the numbers behind it.

use crate::dispatch::Price;
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The numbers behind a decision about one pool.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Numbers {
    /// Waiting jobs that this pool is the one to serve.
    pub waiting: u32,
    /// Machines with a job that will take another after it.
    pub busy: u32,
    /// Machines without a job.
    pub idle: u32,
    /// Machines that are ordered or booting.
    pub coming: u32,
    /// Machines that are used up, told to leave, away or held by a person: there, but not to be counted on.
    pub leaving: u32,
    /// Machines that the supplier is being told to remove.
    pub releasing: u32,
    pub floor: u32,
    pub spare: u32,
    pub ceiling: u32,
    /// How many machines there should be, not counting leaving ones.
    pub keep: u32,
}

impl Numbers {
    /// Machines that are there or coming and can be counted on.
    pub fn counted(&self) -> u32 {
        self.busy + self.idle + self.coming
    }

    /// Machines of which something exists.
    pub fn existing(&self) -> u32 {
        self.counted() + self.leaving + self.releasing
    }

    pub(super) fn describe(&self) -> String {
        let mut parts = Vec::new();
        let mut part = |count: u32, what: &str| {
            if count > 0 {
                parts.push(format!("{count} {what}"));
            }
        };
        part(self.waiting, "waiting");
        part(self.busy, "busy");
        part(self.leaving, "leaving");
        if self.busy + self.leaving + self.idle + self.coming + self.releasing == 0 {
            parts.push("no machine".to_owned());
        } else {
            parts.push(format!("{} idle", self.idle));
            parts.push(format!("{} coming", self.coming));
        }
        let mut part = |count: u32, what: &str| {
            if count > 0 {
                parts.push(format!("{what} {count}"));
            }
        };
        part(self.releasing, "releasing");
        part(self.floor, "floor");
        part(self.spare, "spare");
        parts.push(format!("ceiling {}", self.ceiling));
        parts.join(", ")
    }
}

/// A machine to order.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Order {
    pub machine: MachineId,
    pub runner: RunnerId,
    pub pool: PoolId,
    pub supplier: SupplierId,
    pub price: Price,
    pub single_use: bool,
    /// Whether it is a probe that discovers the facts of the pool's machines.
    pub probe: bool,
}

/// A machine to remove.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Release {
    pub machine: MachineId,
    pub pool: PoolId,
    pub reason: String,
    /// Whether it never did what it was ordered for.
    pub failed: bool,
}

/// A machine to drain, because the pool is above its ceiling.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RunnerDrain {
    pub machine: MachineId,
    pub runner: RunnerId,
    pub pool: PoolId,
}

/// What was decided of a pool, with its reason. It is kept.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CapacityNote {
    pub pool: PoolId,
    /// `order`, `probe`, `release`, `give-up`, `drain`, `hold-back`, `go-on`.
    pub verb: &'static str,
    /// How many machines it is about.
    pub machines: u32,
    pub message: String,
    pub numbers: Numbers,
}

/// How a pool stands after the decision.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PoolStanding {
    pub pool: PoolId,
    pub numbers: Numbers,
    /// Slots of machines that are coming.
    pub coming_slots: u32,
    /// Why no further one is available.
    pub short: Option<String>,
    /// Its ceiling, where it is reached.
    pub full: Option<u32>,
}

/// What is to be done.
#[must_use]
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct CapacityPlan {
    pub orders: Vec<Order>,
    pub releases: Vec<Release>,
    pub drains: Vec<RunnerDrain>,
    pub notes: Vec<CapacityNote>,
    /// The pools that stand otherwise than after the decision before.
    pub pools: Vec<PoolStanding>,
}

impl CapacityPlan {
    /// Whether nothing is to be done.
    pub fn is_empty(&self) -> bool {
        self.orders.is_empty()
            && self.releases.is_empty()
            && self.drains.is_empty()
            && self.notes.is_empty()
    }
}
