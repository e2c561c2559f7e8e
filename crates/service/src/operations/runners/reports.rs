//! What runners report of their attempts: the start, the log, the end.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::jobs::run_graph::ending;
use crate::operations::runners::attempts::lose;
use crate::validation::{MESSAGE_TEXT, shortened};
use bytes::Bytes;
use pennine_core::access::ActorKind;
use pennine_core::id::{AttemptId, LeaseToken, RunnerId};
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_core::lifecycle::outcome::Loss;
use pennine_core::lifecycle::runner::desired_state_after_start;
use pennine_core::run::is_retried;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::attempt::report::{self, AttemptEnd, HeldLease, JobEnd, Reported};
use pennine_store::audit::Actor;
use pennine_store::connect::in_transaction;
use pennine_store::credential::CredentialHolder;
use pennine_store::log::{self, Append};
use pennine_store::{Connection, run};
use pennine_wire::runner_protocol::{
    FinishedReport, LogAcknowledgement, LossCause, LostReport, StartedReport,
};
use std::net::IpAddr;
use std::time::{Duration, Instant};

pub fn over(attempt: AttemptId) -> ServiceError {
    ServiceError::gone(
        "stale-lease",
        "The attempt has ended",
        format!("the attempt {attempt} has ended, or its lease is no longer valid: reports about it are refused"),
    )
    .remedy("stop the job's processes and forget the attempt")
}

pub fn held(known: &CredentialHolder, attempt: AttemptId, lease: LeaseToken) -> HeldLease {
    HeldLease {
        attempt,
        runner: known.id.0,
        lease,
    }
}

/// The runner of an attempt as the audit log names it.
pub fn actor(runner: &str, address: Option<IpAddr>) -> Actor {
    Actor {
        address: address.map(|address| address.to_canonical().to_string()),
        ..Actor::named(ActorKind::Runner, runner)
    }
}

/// Records that a command was started. `arrived` is when the report came.
pub async fn started(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    sent: StartedReport,
    arrived: Instant,
) -> Result<()> {
    let now = app.clock.now();
    let mut connection = app.store.runners().await?;
    let at = now - arrived.elapsed() - Duration::from(sent.ago_us);
    match report::start(
        &mut connection,
        held(known, id, sent.lease),
        sent.session,
        at,
        desired_state_after_start(known.single_use),
        now,
    )
    .await?
    {
        Reported::Kept => {
            app.runner_cache
                .moved(known.id.0, id, AttemptState::Executing);
            app.feed.kick();
            Ok(())
        }
        Reported::Over | Reported::LogShort(_) | Reported::OfSheet => {
            tracing::info!(runner = known.name, attempt = %id, "a start was reported for an attempt that is over");
            Err(over(id))
        }
    }
}

/// Records that an attempt has ended, if its log is complete. `arrived` is when the report came.
pub async fn finished(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    sent: FinishedReport,
    arrived: Instant,
) -> Result<()> {
    let now = app.clock.now();
    let ran = sent
        .started_ago_us
        .map(|started| Micros(started.0.saturating_sub(sent.exited_ago_us.0)));
    let end = AttemptEnd {
        result: sent.result,
        message: sent
            .message
            .map(|message| shortened(&message, MESSAGE_TEXT).to_owned()),
        exit_code: sent.exit_code,
        started: sent
            .started_ago_us
            .map(|ago| now - arrived.elapsed() - Duration::from(ago)),
        ran,
        processor: sent.processor_us,
        peak_memory: sent.peak_memory,
        bytes_read: sent.bytes_read,
        bytes_written: sent.bytes_written,
        log_bytes: i64::try_from(sent.log_bytes.0).unwrap_or(i64::MAX),
        log_capped: sent.log_capped,
        phases: sent.phases.checked(),
    };
    let mut connection = app.store.runners().await?;
    let lease = held(known, id, sent.lease);
    let mut reported = report::finish(&mut connection, lease, &end, JobEnd::Alone, now).await?;
    if reported == Reported::OfSheet {
        reported = finish_in_run(&mut connection, lease, &end, now).await?;
    }
    match reported {
        Reported::Kept => {
            app.feed.kick();
            app.runner_cache.over(known.id.0, id);
            app.followed.notify(id);
            drop(connection);
            if end.log_bytes == 0 {
                return Ok(());
            }
            let app = app.clone();
            tokio::spawn(async move {
                if let Err(error) = app.logs.seal_complete(&app.store, id).await {
                    tracing::warn!(%error, attempt = %id, "a log could not be sealed; upkeep will try again");
                }
            });
            Ok(())
        }
        Reported::LogShort(length) => Err(log_short(length.max(0).unsigned_abs(), sent.log_bytes)),
        Reported::OfSheet | Reported::Over => {
            tracing::info!(runner = known.name, attempt = %id, "an end was reported for an attempt that is over");
            Err(over(id))
        }
    }
}

/// Records the end of an attempt whose job belongs to a run of a sheet, and what follows in the run.
async fn finish_in_run(
    connection: &mut Connection,
    lease: HeldLease,
    end: &AttemptEnd,
    now: Moment,
) -> Result<Reported> {
    in_transaction(connection, async |connection| {
        let Some(job) = run::job_of(connection, lease.attempt).await? else {
            return Ok(Reported::Over);
        };
        ending(connection, &[job.job_id.0], now, async |connection| {
            // As it is with the lock held.
            let Some(job) = run::job_of(connection, lease.attempt).await? else {
                return Ok(Reported::Over);
            };
            let failures = job.failures.max(0).unsigned_abs().saturating_add(1);
            let tries = job.failure_tries.max(0).unsigned_abs();
            let again =
                !job.is_cancelled && is_retried(job.on_failure.0, end.result, failures, tries);
            let of_job = match again {
                true => JobEnd::TriedAgain,
                false => JobEnd::InRun,
            };
            Ok(report::finish(connection, lease, end, of_job, now).await?)
        })
        .await
    })
    .await
}

/// Records that an attempt is over without a result. Its job is retried.
pub async fn lost(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    sent: LostReport,
) -> Result<()> {
    let mut connection = app.store.runners().await?;
    if !report::holds_lease(&mut connection, held(known, id, sent.lease)).await? {
        return Err(over(id));
    }
    let log = pennine_store::log::state(&mut connection, id).await?;
    let durable = log.map_or(0, |log| log.length.max(0).unsigned_abs());
    if durable < sent.log_bytes.0 {
        return Err(log_short(durable, sent.log_bytes));
    }
    let (message, counts) = match sent.cause {
        LossCause::Restarted => ("was restarted and lost the job", true),
        LossCause::CutOff => (
            "was disconnected and ended the job, because it held seats",
            true,
        ),
        LossCause::NotIsolated => (
            "did not start the job: it cannot isolate jobs as their pool asks; see the checks of the runner",
            false,
        ),
        LossCause::HostFull => (
            "did not start the job: its host is at its limit of jobs",
            false,
        ),
    };
    let loss = Loss {
        message: format!("{} {message}", known.name),
        counts,
    };
    if lose(&mut connection, None, id, &loss, None, app.clock.now()).await? {
        app.runner_cache.over(known.id.0, id);
        app.followed.notify(id);
        app.feed.kick();
    }
    Ok(())
}

fn log_short(durable: u64, wanted: ByteSize) -> ServiceError {
    let message = format!(
        "{durable} bytes of the log are durable; the report states {}",
        wanted.0
    );
    ServiceError::conflict("log-short", "The log is incomplete", message).next_offset(durable)
}

/// What a log may have beyond its cap: the runner's own lines, which say how the job ended.
const OWN_LINES: u64 = 256 << 10;

/// The first of these bytes that neither the log's cap nor the runner's for a day forbids.
async fn bytes_that_fit(
    app: &App,
    connection: &mut Connection,
    runner: RunnerId,
    offset: i64,
    bytes: &Bytes,
) -> Result<Bytes> {
    let limits = &app.config.limits;
    let of_log = limits.job_log_bytes.saturating_add(OWN_LINES);
    let of_log = of_log.saturating_sub(offset.max(0).unsigned_abs());
    let sent = app
        .log_volumes
        .of(connection, runner, app.clock.now())
        .await?;
    let of_day = limits.runner_log_bytes_per_day.saturating_sub(sent);
    let most = usize::try_from(of_log.min(of_day)).unwrap_or(usize::MAX);
    Ok(bytes.slice(..most.min(bytes.len())))
}

/// Takes bytes of a log in, from an offset on. Returns the offset up to which the log is durable.
pub async fn log(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    lease: LeaseToken,
    offset: i64,
    bytes: &Bytes,
) -> Result<LogAcknowledgement> {
    if offset < 0 {
        return Err(ServiceError::invalid("offset", "an offset is not negative"));
    }
    let mut connection = app.store.runners().await?;
    if !report::holds_lease(&mut connection, held(known, id, lease)).await? {
        return Err(over(id));
    }
    let taken = |length: i64| length.max(0).unsigned_abs();
    let fits = bytes_that_fit(app, &mut connection, known.id.0, offset, bytes).await?;
    if fits.is_empty() && !bytes.is_empty() {
        let length = log::state(&mut connection, id).await?;
        let length = length.map_or(0, |state| state.length);
        return Err(ServiceError::conflict(
            "log-too-long",
            "The log is too long",
            format!(
                "a log has at most {}, and those of one runner at most {} in 24 h; the rest is omitted",
                ByteSize(app.config.limits.job_log_bytes),
                ByteSize(app.config.limits.runner_log_bytes_per_day)
            ),
        )
        .next_offset(taken(length)));
    }
    match app.logs.append(&mut connection, id, offset, &fits).await? {
        Append::Kept(state) => {
            app.followed.notify(id);
            app.log_volumes.add(known.id.0, fits.len());
            Ok(LogAcknowledgement {
                next_offset: taken(state.length),
            })
        }
        Append::Gap(length) => Err(ServiceError::conflict(
            "log-gap",
            "The log would have a gap",
            format!(
                "the log is durable up to {length}; these bytes begin at {}",
                offset
            ),
        )
        .next_offset(taken(length))),
        Append::Closed(length) => Err(ServiceError::conflict(
            "log-complete",
            "The log is complete",
            "the log is complete and accepts no more bytes",
        )
        .next_offset(taken(length))),
    }
}
