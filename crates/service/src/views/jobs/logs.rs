//! Logs, by bytes and by lines, as far as they have come or on from there.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::log_store::LogError;
use crate::views;
use pennine_core::id::AttemptId;
use pennine_core::lifecycle::job::JobState;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_store::log::{self, LogState};
use pennine_store::{Connection, attempt};
use pennine_wire::LogLines;
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;

/// The most bytes in one answer.
pub const MOST_BYTES: usize = 1 << 20;

/// The most lines in one answer.
pub const MOST_LINES: usize = 2000;

/// The longest that an answer waits for something new.
pub const LONGEST_WAIT: Duration = Duration::from_secs(15);

/// While waiting: how often to look without being told, since another replica may take the log in.
pub const LOOK_EVERY: Duration = Duration::from_millis(400);

/// Which stretch of a log, by bytes.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct ByteParams {
    /// The offset of the first byte; 0 when not given.
    pub from: Option<i64>,
    /// The number of the attempt; the latest when not given.
    pub attempt: Option<i32>,
    /// How long to wait for something new, in microseconds; not at all when not given.
    pub wait_us: Option<Micros>,
}

/// Which stretch of a log, by lines.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct LineParams {
    /// The number of the first line, counted from 0.
    from: Option<i64>,
    /// How many lines: 1 to 2000, 500 when not given.
    count: Option<usize>,
    /// The number of the attempt; the latest when not given.
    attempt: Option<i32>,
    /// Wait until the log has more bytes than this, or is complete.
    beyond: Option<i64>,
    /// How long to wait for that, in microseconds.
    wait_us: Option<Micros>,
}

pub struct LogMatches {
    attempt: Option<AttemptId>,
    number: i32,
    /// Whether the job has a result, so that no further attempt will come.
    over: bool,
}

pub async fn find(
    connection: &mut Connection,
    who: &Principal,
    text: &str,
    number: Option<i32>,
) -> Result<LogMatches> {
    let job = views::jobs::job::find(connection, who, text).await?;
    let attempts = attempt::of_jobs(connection, &[job.id.0]).await?;
    let over = job.state.0 == JobState::Done;
    let found = match number {
        Some(number) => Some(
            attempts
                .iter()
                .find(|one| one.number == number)
                .ok_or_else(|| {
                    ServiceError::invalid("attempt", format!("{text} has no attempt {number}"))
                })?,
        ),
        None => attempts.last(),
    };
    Ok(LogMatches {
        attempt: found.map(|one| one.id.0),
        number: found.map_or(0, |one| one.number),
        over,
    })
}

/// Says so where a log was taken away.
pub fn refuse_removed(app: &App, job: &str, state: LogState) -> Result<()> {
    if !state.removed {
        return Ok(());
    }
    let message = format!(
        "the log of {job} has expired: logs are kept for {} days",
        app.config.keep.logs
    );
    Err(
        ServiceError::gone("log-removed", "The log has expired", message)
            .remedy("the setting keep.logs sets how long logs are kept"),
    )
}

/// What was read of a log. One that is taken away while it is read is no failure.
pub async fn log_or_removed<T>(
    app: &App,
    connection: &mut Connection,
    job: &str,
    attempt: AttemptId,
    read: std::result::Result<T, LogError>,
) -> Result<T> {
    if read.as_ref().is_err_and(LogError::is_missing) {
        let state = log::state(connection, attempt).await?;
        refuse_removed(app, job, state.unwrap_or_default())?;
    }
    Ok(read?)
}

/// Waits until the log has grown past an offset or is complete, for at most so long.
pub async fn grown(app: &App, attempt: AttemptId, past: i64, wait: Duration) -> Result<LogState> {
    let deadline = tokio::time::Instant::now() + wait.min(LONGEST_WAIT);
    loop {
        let subscription = app.followed.subscribe(attempt);
        let mut connection = app.store.people().await?;
        let state = log::state(&mut connection, attempt)
            .await?
            .unwrap_or_default();
        drop(connection);
        let now = tokio::time::Instant::now();
        if state.length > past || state.complete || now >= deadline || app.stop.is_cancelled() {
            return Ok(state);
        }
        tokio::select! {
            () = subscription.notified() => {}
            () = tokio::time::sleep(LOOK_EVERY.min(deadline - now)) => {}
            () = app.stop.cancelled() => {}
        }
    }
}

/// A stretch of a job's log.
#[derive(Debug, Default)]
pub struct LogBytes {
    pub bytes: Vec<u8>,
    /// The offset at which the log goes on.
    pub next_offset: i64,
    /// The number of the attempt; none where there is no attempt yet.
    pub attempt: Option<i32>,
    /// Whether nothing more will come.
    pub is_complete: bool,
}

/// Reads a job's log as bytes from an offset on, at most 1 MiB.
pub async fn bytes(app: &App, who: &Principal, text: &str, params: ByteParams) -> Result<LogBytes> {
    let from = params.from.unwrap_or(0);
    if from < 0 {
        return Err(ServiceError::invalid("from", "an offset is not negative"));
    }
    let mut connection = app.store.people().await?;
    let mut found = find(&mut connection, who, text, params.attempt).await?;
    drop(connection);
    let wait = Duration::from(params.wait_us.unwrap_or_default());
    let deadline = tokio::time::Instant::now() + wait.min(LONGEST_WAIT);
    // No attempt yet: wait for one, unless none will come.
    while found.attempt.is_none() && !found.over && tokio::time::Instant::now() < deadline {
        let mut changes = app.feed.subscribe();
        let _ = tokio::time::timeout(LOOK_EVERY, changes.recv()).await;
        let mut connection = app.store.people().await?;
        found = find(&mut connection, who, text, params.attempt).await?;
    }
    let Some(attempt) = found.attempt else {
        return Ok(LogBytes {
            is_complete: found.over,
            ..LogBytes::default()
        });
    };
    let state = grown(app, attempt, from, deadline - tokio::time::Instant::now()).await?;
    refuse_removed(app, text, state)?;
    let mut connection = app.store.people().await?;
    let read = app
        .logs
        .read(&mut connection, attempt, from, MOST_BYTES)
        .await;
    let bytes = log_or_removed(app, &mut connection, text, attempt, read).await?;
    let next = from + bytes.len() as i64;
    Ok(LogBytes {
        bytes,
        next_offset: next,
        attempt: Some(found.number),
        is_complete: state.complete && next >= state.length,
    })
}

/// Reads a job's log as lines.
pub async fn lines(app: &App, who: &Principal, text: &str, params: LineParams) -> Result<LogLines> {
    let (from, count) = (params.from.unwrap_or(0), params.count.unwrap_or(500));
    if from < 0 || !(1..=MOST_LINES).contains(&count) {
        return Err(ServiceError::invalid(
            "count",
            format!("count is 1 to {MOST_LINES}, and from is not negative"),
        ));
    }
    let mut connection = app.store.people().await?;
    let found = find(&mut connection, who, text, params.attempt).await?;
    drop(connection);
    let Some(attempt) = found.attempt else {
        return Ok(LogLines {
            attempt: None,
            first: 0,
            lines: Vec::new(),
            total: 0,
            bytes: ByteSize(0),
            complete: found.over,
            capped: false,
        });
    };
    if let Some(beyond) = params.beyond {
        grown(
            app,
            attempt,
            beyond,
            params.wait_us.unwrap_or_default().into(),
        )
        .await?;
    }
    let mut connection = app.store.people().await?;
    let read = app.logs.lines(&mut connection, attempt, from, count).await;
    let read = log_or_removed(app, &mut connection, text, attempt, read).await?;
    refuse_removed(app, text, read.state)?;
    Ok(LogLines {
        attempt: Some(attempt),
        first: from.unsigned_abs(),
        lines: read.lines,
        total: read.total,
        bytes: ByteSize(read.state.length.max(0).unsigned_abs()),
        complete: read.state.complete,
        capped: read.state.capped,
    })
}
