//! The background task that carries out actions on many jobs.

use crate::app::App;
use crate::background::Task;
use crate::error::ServiceError;
use crate::operations::jobs::bulk_work;
use crate::recurring_tasks::{RecurringTask, Schedule, run_while_leading};
use std::time::Duration;

/// How soon an action begins.
const EVERY: Duration = Duration::from_millis(500);

struct BulkActions(App);

impl RecurringTask for BulkActions {
    type Error = ServiceError;
    const WHAT: &'static str = "carrying out bulk actions";
    const TASK: Task = Task::BulkActions;

    async fn round(&mut self) -> Result<(), ServiceError> {
        bulk_work::work(&self.0).await
    }
}

/// Works for as long as this replica leads, until told to stop.
pub async fn run(app: App) {
    let pace = Schedule {
        first: EVERY,
        every: EVERY,
        longest: EVERY,
    };
    run_while_leading(app.clone(), pace, BulkActions(app)).await;
}
