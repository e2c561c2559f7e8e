//! Tells those who listen: the leader reads the change feed for each listener by a cursor of its own, and sends what is an
//! event to it, in order, signed as Standard Webhooks say.
//!
//! Each event is sent until it is taken; one that is sent again carries the same id, so that who hears it twice knows. A
//! listener that does not take one is tried again ever more rarely, and given up on with that event after three days: what
//! came after it is sent then.

use crate::app::App;
use crate::delivery::cloud_events::{Event, MEDIA_TYPE, Source};
use crate::encryption::Locked;
use pennine_core::time::Moment;
use pennine_store::change::{Change, Undecodable};
use pennine_store::listener::{self, Listener};
use pennine_store::outbox::{self, Cursor};
use pennine_store::{Db, Error};
use rand::RngExt;
use reqwest::header::CONTENT_TYPE;
use standardwebhooks::Webhook;
use std::collections::HashMap;
use std::time::Duration;
use tokio::task::JoinSet;
use uuid::Uuid;

/// How often it is looked for what is to be sent, where the feed says nothing of it.
const EVERY: Duration = Duration::from_secs(5);
/// How long a listener has to take an event.
const PATIENCE: Duration = Duration::from_secs(10);
/// The first pause after one was not taken; each further one is twice as long.
const PAUSE: Duration = Duration::from_secs(2);
/// The longest pause.
const LONGEST_PAUSE: Duration = Duration::from_secs(3600);
/// How long one event is tried.
const GIVEN_UP: Duration = Duration::from_secs(3 * 86_400);
/// Changes that are read at once.
const BATCH: i64 = 500;
/// What is kept of an answer that says no.
const ANSWER: usize = 200;
/// How long the secret before the last is signed with too.
pub const FORMER: Duration = Duration::from_secs(86_400);

/// Under which name a listener's secret is locked.
pub fn lock_name(id: Uuid) -> String {
    format!("listener {id}")
}

/// Sends what is to be sent for as long as this replica leads, until told to stop.
pub async fn run(app: App) {
    let sender = match sender() {
        Ok(sender) => sender,
        Err(error) => {
            tracing::error!(%error, "nobody can be told of events: TLS does not work here");
            return;
        }
    };
    let mut changes = app.feed.subscribe();
    let mut sending: JoinSet<Uuid> = JoinSet::new();
    let mut busy: HashMap<Uuid, tokio::task::AbortHandle> = HashMap::new();
    loop {
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            heard = changes.recv() => {
                match heard {
                    Ok(changes) if !changes.iter().any(|one| concerns_listeners(&one.change)) => {
                        continue;
                    }
                    Ok(_) | Err(tokio::sync::broadcast::error::RecvError::Lagged(_)) => {}
                    Err(tokio::sync::broadcast::error::RecvError::Closed) => return,
                }
            }
            Some(done) = sending.join_next() => {
                if let Ok(id) = done {
                    busy.remove(&id);
                } else {
                    busy.retain(|_, task| !task.is_finished());
                }
                continue;
            }
            () = app.stop.cancelled() => return,
        }
        if !app.leads() {
            sending.abort_all();
            busy.clear();
            continue;
        }
        match due(&app).await {
            Ok(due) => {
                for listener in due {
                    let id = listener.id;
                    busy.entry(id).or_insert_with(|| {
                        sending.spawn(tell(app.clone(), sender.clone(), listener))
                    });
                }
            }
            Err(error) => tracing::debug!(%error, "the listeners could not be read; tried again"),
        }
    }
}

/// Whether there may be something to send after this change. One that cannot be read may be of that kind.
fn concerns_listeners(change: &Result<Change, Undecodable>) -> bool {
    match change {
        Ok(
            Change::AlertRaised { .. }
            | Change::AlertChanged { .. }
            | Change::AlertEnded { .. }
            | Change::ListenerChanged { .. },
        )
        | Err(_) => true,
        Ok(_) => false,
    }
}

/// What sends events: it follows no redirections, since a signed event goes where people said and nowhere else.
pub fn sender() -> Result<reqwest::Client, reqwest::Error> {
    // One that is there already is as good.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .timeout(PATIENCE)
        .user_agent(concat!("pennined/", env!("CARGO_PKG_VERSION")))
        .build()
}

/// The listeners that may be sent something now.
async fn due(app: &App) -> Result<Vec<Listener>, Error> {
    let now = app.clock.now();
    let mut connection = app.store.get().await?;
    let mut all = listener::list(&mut connection).await?;
    all.retain(|one| !one.paused && one.retry_at.is_none_or(|at| at.0 <= now));
    Ok(all)
}

/// Sends a listener everything that is there for it, or as far as it takes it.
async fn tell(app: App, sender: reqwest::Client, listener: Listener) -> Uuid {
    if let Err(error) = tell_all(&app, &sender, &listener).await {
        tracing::debug!(listener = listener.name, %error, "what was sent could not be noted");
    }
    listener.id
}

async fn tell_all(app: &App, sender: &reqwest::Client, listener: &Listener) -> Result<(), Error> {
    let mut cursor = listener.cursor();
    loop {
        let mut connection = app.store.get().await?;
        let found = outbox::alerts_after(&mut connection, cursor, BATCH).await?;
        drop(connection);
        let Some(last) = found.last().map(|entry| entry.cursor) else {
            return Ok(());
        };
        for entry in &found {
            let event = app.feed.readable(entry);
            let event = event.and_then(|change| {
                Source::of(app).event(&entry.cursor.to_string(), entry.at, change)
            });
            let Some(event) = event else {
                continue;
            };
            if !listener.kinds.is_empty() && !listener.kinds.contains(&event.alert) {
                continue;
            }
            if app.stop.is_cancelled() || !app.leads() {
                return Ok(());
            }
            if !deliver(app, sender, listener, &event, entry.cursor).await? {
                return Ok(());
            }
        }
        let mut connection = app.store.get().await?;
        listener::note_sent(&mut connection, listener.id, last, 0, app.clock.now()).await?;
        cursor = last;
    }
}

/// Sends one event and notes what came of it. False when it is to be tried again later.
async fn deliver(
    app: &App,
    sender: &reqwest::Client,
    listener: &Listener,
    event: &Event,
    at: Cursor,
) -> Result<bool, Error> {
    let sent = send(app, sender, listener, event).await;
    let now = app.clock.now();
    let mut connection = app.store.get().await?;
    let said = match sent {
        Ok(_) => {
            listener::note_sent(&mut connection, listener.id, at, 1, now).await?;
            return Ok(true);
        }
        Err(said) => said,
    };
    let known = listener::list(&mut connection).await?;
    let Some(known) = known.into_iter().find(|one| one.id == listener.id) else {
        return Ok(false);
    };
    if known
        .failing_since
        .is_some_and(|since| now.since(since.0) >= GIVEN_UP)
    {
        tracing::warn!(
            listener = listener.name,
            event = event.id,
            said,
            "an event is given up"
        );
        listener::note_sent(&mut connection, listener.id, at, 0, now).await?;
        return Ok(true);
    }
    let tries = u32::try_from(known.tries).unwrap_or(0).min(20);
    let pause = (PAUSE * 2u32.pow(tries)).min(LONGEST_PAUSE);
    let pause = pause.mul_f64(1.0 + rand::rng().random::<f64>() / 2.0);
    if known.tries == 0 {
        tracing::warn!(
            listener = listener.name,
            said,
            "an event could not be sent; it is tried again"
        );
    }
    listener::note_trouble(&mut connection, listener.id, &said, now + pause, now).await?;
    Ok(false)
}

/// Sends one event: what the listener answered when it took it, or why it did not.
pub async fn send(
    app: &App,
    sender: &reqwest::Client,
    listener: &Listener,
    event: &Event,
) -> Result<String, String> {
    let now = app.clock.now();
    let seconds = now.micros().div_euclid(1_000_000);
    let signatures = secrets(app, listener, now)
        .map_err(|error| format!("its secret cannot be read: {error}"))?
        .iter()
        .map(|secret| Webhook::new(secret)?.sign(&event.id, seconds, event.body.as_bytes()))
        .collect::<Result<Vec<String>, _>>()
        .map_err(|error| format!("it cannot be signed: {error}"))?;
    let answer = sender
        .post(&listener.url)
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
fn secrets(app: &App, listener: &Listener, now: Moment) -> Result<Vec<String>, Locked> {
    let open = |locked: &str| app.encryption.open(&lock_name(listener.id), locked);
    let mut all = vec![open(&listener.secret)?];
    if let Some(former) = &listener.former
        && listener.former_until.is_some_and(|Db(until)| now < until)
    {
        all.push(open(former)?);
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
