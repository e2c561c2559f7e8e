//! How many machines each pool should have, and what follows: what to order, what to release, what cannot be had.
//!
//! [`Keeper`] holds pools' policies, suppliers and machines. The leading replica tells it what becomes of them and asks
//! it to decide after every plan of [`dispatch`](crate::dispatch), whose queue and yard it looks at; the same code runs
//! in simulations and what-ifs. It does no I/O: the caller writes a decision down, then asks the suppliers.
//!
//! ```text
//!   State::start --> Keeper::decide --> Decided { orders, releases, drains, .. } --> one transaction --> suppliers
//!        |                |                                                                               |
//!        |                +--> Event::Pool (what is coming, what cannot be had) --> State::say            |
//!        +<------------------------------ Event::Machine, Event::Fault <-----------------------------------+
//! ```
//! One number, [`Numbers::keep`], decides about ordering and releasing alike, so that the one never undoes the other.

mod bounds;
mod decide;
mod decided;
mod event;
mod fleet;
mod keeper;
mod line;
mod spend;
mod supply;
mod untrusted;

pub use decided::{CapacityNote, CapacityPlan, Numbers, Order, PoolStanding, Release, RunnerDrain};
pub use event::{Event, MachineView, ManagedPool, Scope, SupplierView};
pub use keeper::{Keeper, SupplierBackoff};
pub use line::pool_line;
pub use spend::{Meter, Money};
pub use supply::{Budget, Day, Offer, Supply, Times, Week, WeekError};
pub use untrusted::{MachineSeparation, UnfitForUntrusted, check_untrusted};

#[cfg(test)]
mod tests;
