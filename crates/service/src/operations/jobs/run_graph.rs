//! What follows in a run when one of its jobs has ended or was released.
//!
//! The core decides what follows; here it is stored, in the transaction of the end.

use crate::app::App;
use pennine_core::id::{JobId, RunId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::run::{self, GraphJob, RunState, Step};
use pennine_core::time::Moment;
use pennine_store::connect::in_transaction;
use pennine_store::job::{self, WaitEnd};
use pennine_store::leadership::Epoch;
use pennine_store::run::{self as runs, GraphRow};
use pennine_store::{Connection, Error};

/// Does what may end these jobs, and then what follows in their runs. The runs are locked first. Needs a transaction.
///
/// # Errors
/// What `work` returns, and where the database does not answer.
pub async fn ending<T, E: From<Error>>(
    connection: &mut Connection,
    jobs: &[JobId],
    at: Moment,
    work: impl AsyncFnOnce(&mut Connection) -> Result<T, E>,
) -> Result<T, E> {
    let locked = runs::lock_of(connection, jobs).await?;
    let done = work(connection).await?;
    for run in locked {
        advance(connection, run, at).await?;
    }
    Ok(done)
}

/// Ends jobs that still wait, under the fence, with what follows in their runs. Returns their numbers.
///
/// # Errors
/// Where the database does not answer.
pub async fn end_waiting(
    connection: &mut Connection,
    epoch: Epoch,
    ends: &[WaitEnd],
    at: Moment,
) -> Result<Vec<i64>, Error> {
    let jobs: Vec<JobId> = ends.iter().map(|end| end.job).collect();
    in_transaction(connection, async |connection| {
        ending(connection, &jobs, at, async |connection| {
            job::end_waiting(connection, epoch, ends, at).await
        })
        .await
    })
    .await
}

/// Stores what follows for the jobs of a run. Needs its lock.
///
/// # Errors
/// Where the database does not answer.
pub async fn advance(connection: &mut Connection, run: RunId, at: Moment) -> Result<(), Error> {
    let mut rows = runs::graph(connection, run).await?;
    let mut jobs: Vec<GraphJob> = rows.iter().map(GraphRow::job).collect();
    let mut steps = run::advance(&jobs);
    let to_skip: Vec<(JobId, String)> = (steps.iter())
        .filter_map(|(position, step)| match step {
            Step::Skip { message } => Some((rows.get(*position)?.id.0, message.clone())),
            Step::Ready => None,
        })
        .collect();
    if !to_skip.is_empty() {
        let skipped = runs::skip(connection, &to_skip, at).await?;
        if skipped.len() < to_skip.len() {
            // A runner was given one of them meanwhile: it goes on, and what waits for it does.
            rows = runs::graph(connection, run).await?;
            jobs = rows.iter().map(GraphRow::job).collect();
            steps = run::advance(&jobs);
        } else {
            set(
                &mut jobs,
                &rows,
                &skipped,
                JobState::Done,
                Some(Outcome::Skip),
            );
        }
    }
    let ready: Vec<JobId> = (steps.iter())
        .filter(|(_, step)| *step == Step::Ready)
        .filter_map(|(position, _)| Some(rows.get(*position)?.id.0))
        .collect();
    if !ready.is_empty() {
        let ready = runs::make_ready(connection, &ready, at).await?;
        set(&mut jobs, &rows, &ready, JobState::Pending, None);
    }
    let is_done = run::state(jobs.iter().map(|job| job.state)) == RunState::Done;
    runs::set_finished(connection, run, is_done.then_some(at)).await
}

/// Puts new jobs in the places of chosen jobs that are done, and of jobs that were skipped because of them. Returns how many.
/// `chosen` names positions. Needs the run's lock.
///
/// # Errors
/// What `chosen` returns, and where the database does not answer.
pub async fn try_again<E: From<Error>>(
    app: &App,
    connection: &mut Connection,
    run: RunId,
    chosen: impl FnOnce(&[GraphRow]) -> Result<Vec<usize>, E>,
    with_dependents: bool,
    at: Moment,
) -> Result<usize, E> {
    let rows = runs::graph(connection, run).await?;
    let jobs: Vec<GraphJob> = rows.iter().map(GraphRow::job).collect();
    let again = run::to_retry(&jobs, &chosen(&rows)?, with_dependents);
    if again.is_empty() {
        return Ok(0);
    }
    let old = again.iter().filter_map(|position| rows.get(*position));
    let replaced: Vec<(JobId, JobId)> = old.map(|row| (row.id.0, JobId(app.fresh_id()))).collect();
    runs::add_again(connection, &replaced, at).await?;
    runs::replace(connection, run, &replaced, at).await?;
    advance(connection, run, at).await?;
    Ok(replaced.len())
}

fn set(
    jobs: &mut [GraphJob],
    rows: &[GraphRow],
    changed: &[JobId],
    state: JobState,
    result: Option<Outcome>,
) {
    for (job, row) in jobs.iter_mut().zip(rows) {
        if changed.contains(&row.id.0) {
            job.state = state;
            job.result = result;
        }
    }
}
