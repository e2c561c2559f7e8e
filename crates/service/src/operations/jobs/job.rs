//! Jobs.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::operations::jobs::run_graph::ending;
use crate::operations::transaction::commit;
use crate::views;
use crate::views::jobs::job::find;
use pennine_core::access::Action;
use pennine_core::id::ShortName;
use pennine_store::audit;
use pennine_store::job::{self, Cancelled};
use pennine_wire::Job;
use serde_json::json;

/// Cancel a job: at once when it waits, by asking its runner otherwise. Cancelling twice does no harm.
pub async fn cancel(app: &App, who: &Principal, text: &str) -> Result<Job> {
    commit(app, async |connection| {
        let row = find(connection, who, text).await?;
        let permit = who.require(Action::CancelJob, &row.project)?;
        let now = app.clock.now();
        let cancelled = ending(connection, &[row.id.0], now, async |connection| {
            job::cancel(connection, row.id.0, &who.name, now).await
        })
        .await?;
        if cancelled != Cancelled::Nothing {
            audit::write(
                connection,
                now,
                &permit,
                "job.cancel",
                &ShortName::Job.name(row.number),
                json!({}),
            )
            .await?;
        }
        Ok(())
    })
    .await?;
    views::jobs::job::show(app, who, text).await
}
