//! The events of capacity.

use super::supply::Supply;
use crate::dispatch::Price;
use crate::id::{MachineId, PoolId, RunnerId, SupplierId};
use crate::lifecycle::machine::MachineState;
use crate::time::Moment;
use jiff::tz::TimeZone;
use std::time::Duration;

/// A supplier, as the keeper sees it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct SupplierView {
    pub id: SupplierId,
    pub name: String,
    /// The most machines that it makes for this installation, where it is known.
    pub quota: Option<u32>,
    /// A machine whose runner has not connected this long after its order never will.
    pub boot_limit: Duration,
}

/// A pool that makes machines, as the keeper sees it.
#[derive(Clone, PartialEq, Debug)]
pub struct ManagedPool {
    pub id: PoolId,
    pub name: String,
    pub supplier: SupplierId,
    pub supply: Supply,
    /// The time zone of its week.
    pub zone: TimeZone,
    /// What an hour of its machines costs.
    pub price: Price,
    /// Whether it makes nothing for now.
    pub paused: bool,
}

/// A machine, as the keeper sees it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MachineView {
    pub id: MachineId,
    pub pool: PoolId,
    pub supplier: SupplierId,
    pub state: MachineState,
    /// The record of its runner.
    pub runner: RunnerId,
    pub price: Price,
    pub ordered: Moment,
    /// Whether it takes one job and is used up then.
    pub single_use: bool,
    /// When it ended, where it has.
    pub ended: Option<Moment>,
}

/// What a fault is one of.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Scope {
    /// The supplier as a whole.
    Supplier,
    /// What one pool asks of it: an image that is not there, a size that is out of stock, machines that never join.
    Pool,
}

/// How something is that the keeper goes by.
#[derive(Clone, PartialEq, Debug)]
pub enum Event {
    /// A supplier is like this.
    Supplier(SupplierView),
    /// A supplier is not there any more.
    MakerGone(SupplierId),
    /// A pool makes machines like this.
    Pool(Box<ManagedPool>),
    /// A pool makes no machines any more.
    PoolGone(PoolId),
    /// A machine is like this.
    Machine(MachineView),
    /// The runner of a machine has left permanently.
    Left(MachineId),
    /// Something went wrong with a supplier. `jitter`, from 0 to 1, is how much of half a pause is added to it.
    Fault {
        supplier: SupplierId,
        pool: PoolId,
        scope: Scope,
        message: String,
        jitter: f64,
        /// The supplier says itself how long to wait.
        retry_after: Option<Duration>,
    },
    /// A supplier has done what a pool asked of it. `joined` when the machine has connected too.
    Fine {
        supplier: SupplierId,
        pool: PoolId,
        joined: bool,
    },
}
