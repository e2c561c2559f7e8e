//! Sends one event to a listener, signed as Standard Webhooks say.

use crate::app::App;
use crate::cloud_events::{Event, MEDIA_TYPE};
use crate::encryption::Locked;
use pennine_core::time::Moment;
use pennine_store::Db;
use pennine_store::listener::Listener;
use reqwest::header::CONTENT_TYPE;
use standardwebhooks::Webhook;
use std::time::Duration;
use uuid::Uuid;

/// How long a listener has to take an event.
const PATIENCE: Duration = Duration::from_secs(10);

/// What is kept of an answer that says no.
const ANSWER: usize = 200;

/// How long the secret before the last is signed with too.
pub const FORMER: Duration = Duration::from_secs(86_400);

/// Under which name a listener's secret is locked.
pub fn lock_name(id: Uuid) -> String {
    format!("listener {id}")
}

/// The client that sends events: only to addresses that are allowed, and without following redirections.
pub fn sender(app: &App) -> Result<reqwest::Client, reqwest::Error> {
    app.outgoing
        .client()
        .timeout(PATIENCE)
        .user_agent(concat!("pennined/", env!("CARGO_PKG_VERSION")))
        .build()
}

/// Sends one event: what the listener answered when it took it, or why it did not.
pub async fn send(
    app: &App,
    sender: &reqwest::Client,
    listener: &Listener,
    event: &Event,
) -> Result<String, String> {
    // The configuration may have changed since it was entered.
    let url: reqwest::Url = listener.url.parse().map_err(|error| format!("{error}"))?;
    app.outgoing
        .check_url(&url)
        .map_err(|error| error.to_string())?;
    let now = app.clock.now();
    let seconds = now.micros().div_euclid(1_000_000);
    let signatures = secrets(app, listener, now)
        .map_err(|error| format!("its secret cannot be read: {error}"))?
        .iter()
        .map(|secret| Webhook::new(secret)?.sign(&event.id, seconds, event.body.as_bytes()))
        .collect::<Result<Vec<String>, _>>()
        .map_err(|error| format!("it cannot be signed: {error}"))?;
    let answer = sender
        .post(url)
        .header(CONTENT_TYPE, MEDIA_TYPE)
        .header(standardwebhooks::HEADER_WEBHOOK_ID, &event.id)
        .header(standardwebhooks::HEADER_WEBHOOK_TIMESTAMP, seconds)
        .header(
            standardwebhooks::HEADER_WEBHOOK_SIGNATURE,
            signatures.join(" "),
        )
        .body(event.body.clone())
        .send()
        .await
        .map_err(|error| cause(&error))?;
    let status = answer.status();
    if status.is_success() {
        return Ok(format!("it answered {status}"));
    }
    let text = beginning(answer).await;
    Err(format!("it answered {status} {text}").trim_end().to_owned())
}

/// The secrets that are signed with: its own, and the one before for a while.
pub fn secrets(app: &App, listener: &Listener, now: Moment) -> Result<Vec<String>, Locked> {
    let open = |locked: &str| app.encryption.open(&lock_name(listener.id), locked);
    let mut all = vec![open(&listener.secret)?];
    if let Some(previous_secret) = &listener.previous_secret
        && listener.previous_until.is_some_and(|Db(until)| now < until)
    {
        all.push(open(previous_secret)?);
    }
    Ok(all)
}

/// The beginning of an answer, as one line.
async fn beginning(mut answer: reqwest::Response) -> String {
    let mut bytes = Vec::new();
    while bytes.len() < ANSWER {
        match answer.chunk().await {
            Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
            _ => break,
        }
    }
    bytes.truncate(ANSWER);
    let text = String::from_utf8_lossy(&bytes);
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// What is at the bottom of an error, without the address.
fn cause(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return format!("it did not answer within {} s", PATIENCE.as_secs());
    }
    let mut cause: &dyn std::error::Error = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    format!("it cannot be reached: {cause}")
}
