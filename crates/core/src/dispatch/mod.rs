//! Which waiting job goes to which runner, and why each of the others waits.
//!
//! [`State`] holds the queue and the yard in memory. The leading replica feeds it [`Event`]s and asks it for a
//! [`Plan`]; the same code runs in simulations and tests. It does no I/O: the caller makes the plan durable and tells
//! the state with [`Event::Refused`] what could not be kept.
//!
//! ```text
//!   outbox --> Event --> State::apply
//!                        State::plan --> Plan { assignments, reasons } --> one transaction under the fence
//!                             ^                                               |
//!                             +---------------- Event::Refused <--------------+
//! ```
//! Each file knows only those below it:
//!
//! ```text
//!   apply, query    what can be said to and asked of the state
//!   waiting_line    what is shown of the waiting jobs, one changed strand at a time
//!   explain         why each strand waits
//!   demand          what the waiting jobs would use of machines that are yet to come
//!   batch           which jobs start now, and where
//!   line, hold      waiting jobs in line; slots and seats that are held
//!   state           what there is
//!   flow, tree, share, runner_index, reason, yard, event
//! ```
//! Events say how things are, not how they changed, so a repeated event does no harm: after a takeover the new leader
//! may be told things that its snapshot already holds.

mod apply;
mod batch;
mod demand;
mod event;
mod explain;
mod flow;
mod hold;
mod inconsistency;
mod line;
mod query;
mod reason;
mod runner_index;
mod share;
mod state;
mod tree;
mod waiting_line;
mod yard;

pub use event::{Assignment, Event, LineChange, LineGroup, LinePart, Plan, ReasonChange};
pub use inconsistency::{Entity, Inconsistency, Problem};
pub use reason::{
    EligibilityCounts, Limit, Reason, Remedy, SeatReservation, SeatReservations, SeatStanding,
    Segment, reason_at,
};
pub use share::SharePolicy;
pub use state::State;
pub use yard::{
    Availability, Band, Origin, PlaceView, PoolAccess, PoolRoom, PoolView, Price, Reach,
    RunnerLoad, RunnerView, SeatNeeds, StrandKey, below,
};

#[cfg(test)]
mod tests;
