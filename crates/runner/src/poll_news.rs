//! What the tasks of this program tell the one that polls.

use std::cell::Cell;
use tokio::sync::Notify;

/// What the poll has to tell of the machine, and who else waits for what.
#[derive(Default)]
pub struct PollNews {
    /// The machine's facts differ from the reported ones.
    pub to_tell: Cell<bool>,
    /// The search path of programs has changed.
    pub look: Notify,
    /// Its first job is its last.
    pub single_use: bool,
    pub used_up: Cell<bool>,
    /// This program is to stop when it has no job any more.
    pub leaving: Cell<bool>,
    pub leave: Notify,
}
