//! Alerting: the leader evaluates the [`conditions`] regularly, the core decides the transitions of each alert, and they are recorded
//! with their changes.

mod conditions;

use crate::app::App;
use crate::background::Task;
use crate::recurring_tasks::{RecurringTask, Schedule, run_while_leading};
use pennine_core::alert::{AlertStep, step};
use pennine_store::connect::in_transaction;
use pennine_store::{Error, alert};
use std::time::Duration;

/// How soon it is looked at first.
const SOON: Duration = Duration::from_secs(1);
/// However long it took, it is looked again after this.
const LONGEST_REST: Duration = Duration::from_secs(120);

struct AlertLoop(App);

impl RecurringTask for AlertLoop {
    type Error = Error;
    const WHAT: &'static str = "evaluating alerts";
    const TASK: Task = Task::Alerting;

    async fn round(&mut self) -> Result<(), Error> {
        check_all(&self.0).await
    }
}

/// Watches for as long as this replica leads, until told to stop.
pub async fn run(app: App) {
    let pace = Schedule {
        first: SOON,
        every: Duration::from_secs(app.config.alerts.every_seconds),
        longest: LONGEST_REST,
    };
    run_while_leading(app.clone(), pace, AlertLoop(app)).await;
}

/// Looks at everything once.
pub async fn check_all(app: &App) -> Result<(), Error> {
    let mut connection = app.store.tasks().await?;
    let now = app.clock.now();
    let thresholds = alert::thresholds(&mut connection).await?;
    let conditions = conditions::all(app, &mut connection, &thresholds, now).await?;
    let open = alert::open(&mut connection).await?;
    let known: Vec<_> = open.iter().map(alert::Alert::open).collect();
    let steps = step(&known, conditions, &thresholds.patience(), now);
    in_transaction(&mut connection, async |connection| {
        for step in &steps {
            let before = match step {
                AlertStep::Begin { .. } => None,
                AlertStep::Hold { id, .. } | AlertStep::Miss { id, .. } => {
                    open.iter().find(|alert| alert.id == *id)
                }
            };
            alert::take(connection, step, before, app.fresh_id(), now).await?;
        }
        Ok::<(), Error>(())
    })
    .await?;
    app.feed.kick();
    Ok(())
}
