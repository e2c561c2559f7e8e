//! What is known of waits, work, machines and money, added up.
//!
//! A [`Stint`](stint::Stint) is one attempt of a job, or a wait that led to none: when it became ready, why it waited,
//! when it started and ended. Each is added once to the [`Cell`](cell::Cell)s of the stretches of time that it touches,
//! in four [`Grain`](grain::Grain)s. Cells are whole numbers and can be added in any order, so that what is kept as jobs
//! finish and what is worked out anew from the record are the same, bit for bit. [`Figures`](figures::Figures) are what
//! people read.

pub mod cell;
pub mod figures;
pub mod grain;
pub mod histogram;
pub mod rank;
pub mod stint;
#[cfg(test)]
mod tests;

pub use cell::{Adder, Cell, Corrupt};
pub use figures::{Figures, Open, Quantile, WaitFigures, answer};
pub use grain::{Grain, Run, cover};
pub use histogram::Histogram;
pub use stint::{Cells, MachineTime, Offered, Stint};
