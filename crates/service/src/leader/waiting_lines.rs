//! Shows the queue: what changes in the lines of waiting jobs is written to the record, where every replica reads it. Dispatch does
//! not wait for that: one write is under way at a time, and what changes meanwhile is in the next.

use super::{Term, TermEnd};
use crate::app::App;
use pennine_core::dispatch::LineChange;
use pennine_store::leadership::Epoch;
use pennine_store::waiting_line::GroupChange;
use pennine_store::{Error, waiting_line};
use std::time::Duration;
use tokio_util::task::AbortOnDropHandle;

/// Strands in one write: some hundred milliseconds, in which nothing else waits for it.
const AT_ONCE: usize = 5000;
/// How long to wait after a write: how far what is shown may be behind, and how often at most it changes.
const REST: Duration = Duration::from_millis(100);

/// The write that is under way, if any.
#[derive(Default)]
pub struct LineWriter {
    writing: Option<AbortOnDropHandle<Result<bool, Error>>>,
    /// Whether everything that waits was written once in this term.
    is_complete: bool,
}

impl LineWriter {
    /// Waits for the end of the write that is under way; never returns where none is.
    pub async fn done(&mut self) -> Result<(), TermEnd> {
        let Some(writing) = &mut self.writing else {
            return std::future::pending().await;
        };
        let written = writing.await;
        self.writing = None;
        match written {
            Ok(Ok(true)) => Ok(()),
            Ok(Ok(false)) => Err(TermEnd::Deposed),
            Ok(Err(error)) => Err(error.into()),
            Err(failed) => Err(TermEnd::Panicked(failed.to_string())),
        }
    }
}

async fn write(
    app: App,
    epoch: Epoch,
    changes: Vec<LineChange>,
    groups: GroupChange,
) -> Result<bool, Error> {
    let mut connection = app.store.tasks().await?;
    let by = (app.replica, epoch);
    let now = app.clock.now();
    let is_written = waiting_line::write(&mut connection, by, now, &changes, &groups).await?;
    drop(connection);
    app.feed.kick();
    tokio::time::sleep(REST).await;
    Ok(is_written)
}

async fn forget_earlier(app: App, epoch: Epoch, groups: GroupChange) -> Result<bool, Error> {
    let mut connection = app.store.tasks().await?;
    waiting_line::forget_earlier(&mut connection, epoch).await?;
    drop(connection);
    write(app, epoch, Vec::new(), groups).await
}

impl Term<'_> {
    /// Begins to write what has changed in the lines, unless a write is under way.
    pub(super) fn show_lines(&mut self) {
        if self.lines.writing.is_some() {
            return;
        }
        let changes = self.engine.take_changed_lines(AT_ONCE);
        let (app, epoch) = (self.app.clone(), self.epoch);
        // Until everything was written once in this term, the groups are an earlier leader's.
        let writing = if !changes.is_empty() {
            let groups = if self.lines.is_complete {
                GroupChange::Some(self.engine.take_changed_groups())
            } else if self.engine.dispatch().has_changed_lines() {
                GroupChange::Unknown
            } else {
                GroupChange::All(self.engine.take_all_groups())
            };
            tokio::spawn(write(app, epoch, changes, groups))
        } else if !self.lines.is_complete {
            self.lines.is_complete = true;
            let groups = GroupChange::All(self.engine.take_all_groups());
            tokio::spawn(forget_earlier(app, epoch, groups))
        } else {
            return;
        };
        self.lines.writing = Some(AbortOnDropHandle::new(writing));
    }
}
