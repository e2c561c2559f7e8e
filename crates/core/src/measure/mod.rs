//! What is known of waits, work, machines and money, added up.
//!
//! A [`WorkSpan`](work span::Work span) is one attempt of a job, or a wait that led to none: when it became ready, why it waited,
//! when it started and ended. Each is added once to the [`Cell`](cell::Cell)s of the stretches of time that it touches,
//! in four [`Resolution`](resolution::Grain)s. Cells are whole numbers and can be added in any order, so that what is kept as jobs
//! finish and what is recomputed from the record are the same, bit for bit. [`WindowFigures`](figures::Figures) are what
//! people read.

pub mod cell;
pub mod figures;
pub mod histogram;
pub mod rank;
pub mod resolution;
#[cfg(test)]
mod tests;
pub mod work_span;

pub use cell::{Adder, Cell, Corrupt};
pub use figures::{Open, Quantile, WaitFigures, WindowFigures, answer};
pub use histogram::Histogram;
pub use resolution::{Resolution, Run, cover};
pub use work_span::{Cells, MachineTime, Offered, WorkSpan};
