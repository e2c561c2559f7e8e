//! Telling the service how an attempt ended, in this life of the program or for an earlier one.

use crate::backoff::Backoff;
use crate::environment::RunnerEnvironment;
use crate::handle::AttemptHandle;
use crate::journal::{Journal, RecordedEnd, RecordedResult};
use crate::spool::Spool;
use pennine_client::ClientError;
use pennine_core::id::AttemptId;
use pennine_core::size::ByteSize;
use pennine_wire::runner_protocol::{FinishedReport, LossCause, LostReport, StopCause};
use std::rc::Rc;
use std::time::Duration;

/// What the service has not got after so long is made to outlive the machine's power, too.
const SETTLE: Duration = Duration::from_secs(2);

/// Writes down how an attempt stands, for another life of this program.
pub fn write_journal(environment: &RunnerEnvironment, attempt: AttemptId, journal: &Journal) {
    if let Err(error) = environment.home.keep_journal(attempt, journal) {
        tracing::warn!(%error, job = journal.job, "the attempt's journal cannot be written; unreported results are lost if this program ends");
    }
}

/// Sends what is left of an attempt's log and reports its end, until the service has both or wants neither; then removes
/// what is left of it.
pub async fn deliver(
    environment: &RunnerEnvironment,
    attempt: AttemptId,
    journal: &Journal,
    handle: &AttemptHandle,
    spool: Option<&Spool>,
) {
    let delivered = async {
        if let Some(spool) = spool {
            let chunk = &environment.log_chunk;
            spool
                .send(&environment.client, attempt, journal.lease, chunk)
                .await;
        }
        if !spool.is_some_and(Spool::over) {
            report(environment, attempt, journal, handle, spool).await;
        }
    };
    let mut delivered = std::pin::pin!(delivered);
    if tokio::time::timeout(SETTLE, &mut delivered).await.is_err() {
        environment.home.settle(attempt);
        delivered.await;
    }
    environment.home.sweep(attempt);
}

/// Goes on with an attempt of an earlier life of this program: its command has ended with that, at the latest.
pub async fn resume(
    environment: Rc<RunnerEnvironment>,
    attempt: AttemptId,
    mut journal: Journal,
    handle: Rc<AttemptHandle>,
) {
    let path = environment.home.spool(attempt);
    let spool = match Spool::reopen(&path) {
        Ok(spool) => Some(spool),
        Err(error) => {
            tracing::error!(%error, job = journal.job, "the log of an earlier attempt cannot be read; its end is reported without");
            Spool::create(&path, u64::MAX).ok()
        }
    };
    if let Some(spool) = &spool {
        spool
            .locate(&environment.client, attempt, journal.lease)
            .await;
    }
    if journal.end.is_none() {
        let message =
            "the runner was stopped while this ran and has been restarted; this attempt is lost";
        if let Some(spool) = &spool {
            let _ = spool.append_line(message);
        }
        journal.end = Some(RecordedEnd::Lost(LossCause::Restarted));
        write_journal(&environment, attempt, &journal);
    }
    if let Some(spool) = &spool {
        spool.close();
    }
    deliver(&environment, attempt, &journal, &handle, spool.as_ref()).await;
}

async fn deliver_report(
    environment: &RunnerEnvironment,
    attempt: AttemptId,
    journal: &Journal,
    spool: Option<&Spool>,
) -> Result<(), ClientError> {
    let log_bytes = ByteSize(spool.map_or(0, Spool::length));
    let end = journal.end.clone();
    match &end.unwrap_or(RecordedEnd::Lost(LossCause::Restarted)) {
        RecordedEnd::Result(ran) => {
            let RecordedResult {
                result,
                exit_code,
                message,
                exited,
                processor,
                peak_memory,
                bytes_read,
                bytes_written,
                log_capped,
                phases,
            } = ran.clone();
            let finished = FinishedReport {
                session: environment.session,
                lease: journal.lease,
                result,
                exit_code,
                message,
                exited_ago_us: exited.ago().into(),
                processor_us: processor,
                peak_memory,
                bytes_read,
                bytes_written,
                log_bytes,
                log_capped: log_capped || spool.is_some_and(Spool::capped),
                started_ago_us: journal.started.as_ref().map(|at| at.ago().into()),
                phases,
            };
            environment.client.finished(attempt, &finished).await
        }
        RecordedEnd::Lost(cause) => {
            let lost = LostReport {
                cause: *cause,
                session: environment.session,
                lease: journal.lease,
                log_bytes,
            };
            environment.client.lost(attempt, &lost).await
        }
    }
}

async fn report(
    environment: &RunnerEnvironment,
    attempt: AttemptId,
    journal: &Journal,
    handle: &AttemptHandle,
    spool: Option<&Spool>,
) {
    let mut pace = Backoff::default();
    loop {
        let Err(error) = deliver_report(environment, attempt, journal, spool).await else {
            tracing::info!(job = journal.job, "the end is reported");
            return;
        };
        let problem = error
            .problem()
            .map(|problem| (problem.word(), problem.next_offset));
        match (problem, spool) {
            (Some(("stale-lease", _)), _) => {
                tracing::info!(job = journal.job, "the attempt has ended for the service");
                return;
            }
            (Some(("log-short", offset)), Some(spool)) => {
                spool.resume_at(offset.unwrap_or(0));
                let chunk = &environment.log_chunk;
                spool
                    .send(&environment.client, attempt, journal.lease, chunk)
                    .await;
            }
            _ => {
                if !error.passes() {
                    tracing::warn!(%error, job = journal.job, "the report was not accepted; retrying");
                }
                pace.pause().await;
            }
        }
        if handle.stopped_as() == Some(StopCause::Over) {
            return;
        }
    }
}
