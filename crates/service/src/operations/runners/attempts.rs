//! Attempts that are lost: decided in the core, and decided again where the job has changed meanwhile.

use crate::operations::jobs::run_graph::ending;
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::lifecycle::outcome::{JobView, Loss, after_loss};
use pennine_core::time::Moment;
use pennine_store::attempt::loss::{self, WriteResult};
use pennine_store::connect::in_transaction;
use pennine_store::leadership::Epoch;
use pennine_store::{Connection, Result, run};

/// How often an outcome is decided again. A job changes in a way that matters when it is cancelled, which happens once.
const TRIES: usize = 3;

/// Ends an attempt that was lost, and gives its job the outcome that the core decides. What the leader concludes is done
/// only under its epoch. `seen` is what is known of the job already. Returns false when the attempt was over, or another
/// replica leads.
pub async fn lose(
    connection: &mut Connection,
    epoch: Option<Epoch>,
    attempt: AttemptId,
    lost: &Loss,
    seen: Option<(JobView, RunnerId)>,
    now: Moment,
) -> Result<bool> {
    match run::job_of(connection, attempt).await? {
        None => end(connection, epoch, attempt, lost, seen, now).await,
        Some(job) => {
            in_transaction(connection, async |connection| {
                ending(connection, &[job.job_id.0], now, async |connection| {
                    end(connection, epoch, attempt, lost, seen, now).await
                })
                .await
            })
            .await
        }
    }
}

async fn end(
    connection: &mut Connection,
    epoch: Option<Epoch>,
    attempt: AttemptId,
    lost: &Loss,
    seen: Option<(JobView, RunnerId)>,
    now: Moment,
) -> Result<bool> {
    let mut known = seen;
    for _ in 0..TRIES {
        let seen = match known.take() {
            Some(seen) => Some(seen),
            None => loss::job_of(connection, attempt).await?,
        };
        let Some((job, runner)) = seen else {
            return Ok(false);
        };
        let outcome = after_loss(&job, lost, runner, now);
        match loss::end_lost(connection, epoch, attempt, lost, &job, &outcome, now).await? {
            WriteResult::Recorded => return Ok(true),
            WriteResult::Nothing => return Ok(false),
            WriteResult::Stale => {}
        }
    }
    tracing::warn!(%attempt, "the job of a lost attempt kept changing while its outcome was decided; retried later");
    Ok(false)
}
