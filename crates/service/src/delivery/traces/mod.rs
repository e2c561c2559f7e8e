//! Sends finished jobs as traces: OTLP over HTTP, as JSON.
//!
//! The leader reads the change feed by a cursor in the record and sends some seconds behind it, so that nothing is left out
//! over restarts; what was not taken is sent again, with the same ids.

mod otlp;

use crate::app::App;
use crate::background::Task;
use crate::views::jobs::job as jobs;
use otlp::TraceSource;
use pennine_core::id::JobId;
use pennine_core::time::Moment;
use pennine_store::change::Change;
use pennine_store::outbox::{self, Entry};
use pennine_store::{Error, job, traced};
use reqwest::header::{HeaderMap, HeaderName, HeaderValue};
use std::path::Path;
use std::time::Duration;

/// How often it is looked for what is over.
const EVERY: Duration = Duration::from_secs(5);
/// How soon it is looked at first.
const SOON: Duration = Duration::from_millis(200);
/// How old a change has to be, so that why a job waited is written down by then.
const BEHIND: Duration = Duration::from_secs(2);
/// Changes that are read at once.
const BATCH: i64 = 2000;
/// Jobs in one request.
const JOBS: usize = 100;
/// How long a request may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// The longest pause after one that failed.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// What went wrong.
#[derive(Debug, thiserror::Error)]
enum DeliveryError {
    #[error(transparent)]
    Record(#[from] Error),
    #[error("{0}")]
    Sending(String),
}

/// Reads headers from a file, a line each: `Authorization: Bearer …`.
pub fn headers(file: &Path) -> Result<HeaderMap, String> {
    let mut headers = HeaderMap::new();
    if file.as_os_str().is_empty() {
        return Ok(headers);
    }
    let wrong = |message: &dyn std::fmt::Display| format!("{}: {message}", file.display());
    let text = std::fs::read_to_string(file).map_err(|error| wrong(&error))?;
    for (n, line) in text
        .lines()
        .enumerate()
        .filter(|(_, line)| !line.trim().is_empty())
    {
        let at = |message: &str| wrong(&format!("line {}: {message}", n + 1));
        let (name, value) = line
            .split_once(':')
            .ok_or_else(|| at("a header is NAME: VALUE"))?;
        let name: HeaderName = name
            .trim()
            .parse()
            .map_err(|_| at("that is no header's name"))?;
        let mut value =
            HeaderValue::from_str(value.trim()).map_err(|_| at("that is no header's value"))?;
        value.set_sensitive(true);
        headers.append(name, value);
    }
    Ok(headers)
}

/// Sends what is over, for as long as this replica leads, until told to stop. Does nothing where no address is set.
pub async fn run(app: App) {
    let url = app.config.traces.url.clone();
    app.turns.turn(Task::Traces);
    if url.is_empty() {
        app.turns.rest(Task::Traces);
        return app.stop.cancelled().await;
    }
    let sender = match sender(&app) {
        Ok(sender) => sender,
        Err(message) => {
            tracing::error!(message, "no traces are sent (settings: traces)");
            app.turns.rest(Task::Traces);
            return app.stop.cancelled().await;
        }
    };
    let mut pause = EVERY;
    // From the first moment on, all finished jobs are sent.
    let mut rest = SOON;
    loop {
        app.turns.turn(Task::Traces);
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            () = app.stop.cancelled() => return,
        }
        if !app.leads() {
            continue;
        }
        match send_all(&app, &sender, &url).await {
            Ok(()) => {
                if pause > EVERY {
                    tracing::info!("traces are sent again");
                }
                pause = EVERY;
            }
            Err(error) => {
                if pause == EVERY {
                    tracing::warn!(%error, "traces could not be sent; they will be retried");
                }
                pause = (pause * 2).min(LONGEST_PAUSE);
            }
        }
        rest = pause;
    }
}

fn sender(app: &App) -> Result<reqwest::Client, String> {
    // One that is there already is as good.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .default_headers(headers(&app.config.traces.headers_file)?)
        .redirect(reqwest::redirect::Policy::none())
        .timeout(PATIENCE)
        .build()
        .map_err(|error| error.to_string())
}

/// Sends everything that was over some time ago and was not sent.
async fn send_all(app: &App, sender: &reqwest::Client, url: &str) -> Result<(), DeliveryError> {
    loop {
        let (now, low) = (app.clock.now(), app.feed.low().await);
        let mut connection = app.store.tasks().await?;
        let cursor = traced::cursor(&mut connection, low).await?;
        let found = outbox::read_after(&mut connection, cursor, low, BATCH).await?;
        drop(connection);
        let more = found.len() as i64 == BATCH;
        let ripe: Vec<Entry> = found
            .into_iter()
            .take_while(|entry| entry.at < now - BEHIND)
            .collect();
        let Some(last) = ripe.last().map(|entry| entry.cursor) else {
            return Ok(());
        };
        let done = ripe.iter().filter_map(|entry| app.feed.readable(entry));
        let over: Vec<JobId> = done
            .filter_map(|change| match change {
                Change::JobDone { job, .. } => Some(*job),
                _ => None,
            })
            .collect();
        for some in over.chunks(JOBS) {
            send(app, sender, url, some, now).await?;
        }
        let mut connection = app.store.tasks().await?;
        traced::note(&mut connection, last).await?;
        if !more {
            return Ok(());
        }
    }
}

async fn send(
    app: &App,
    sender: &reqwest::Client,
    url: &str,
    ids: &[JobId],
    now: Moment,
) -> Result<(), DeliveryError> {
    let mut connection = app.store.tasks().await?;
    let mut told = Vec::with_capacity(ids.len());
    for row in job::with_ids(&mut connection, ids).await? {
        told.push(jobs::whole(&mut connection, row, now).await?);
    }
    drop(connection);
    let from = TraceSource {
        installation: app.installation.id,
        name: &app.installation.name,
        public_url: &app.public_url,
    };
    let answer = sender
        .post(url)
        .json(&from.spans(&told))
        .send()
        .await
        .map_err(|error| DeliveryError::Sending(error.without_url().to_string()))?;
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    if status.is_client_error() && ![401, 403, 404, 408, 429].contains(&status.as_u16()) {
        // It will not be taken next time either: what comes after it should not wait for it.
        tracing::warn!(%status, jobs = ids.len(), "traces were refused and are skipped");
        return Ok(());
    }
    Err(DeliveryError::Sending(format!(
        "the collector answered {status}"
    )))
}
