//! Tells those who listen: the leader reads the change feed for each listener by a cursor of its own, and sends what is an
//! event to it, in order, signed as Standard Webhooks say.
//!
//! Each event is sent until it is taken; one that is sent again carries the same id, so that who hears it twice knows. A
//! listener that does not take one is retried ever more rarely, and given up on with that event after three days: what
//! came after it is sent then.

use crate::app::App;
use crate::background::Task;
use crate::cloud_events::{Event, Source};
use crate::webhook_client::{send, sender};
use pennine_store::Error;
use pennine_store::change::{Change, Undecodable};
use pennine_store::listener::{self, Listener};
use pennine_store::outbox::{self, Cursor};
use rand::RngExt;
use std::collections::HashMap;
use std::time::Duration;
use tokio::task::JoinSet;
use uuid::Uuid;

/// How often it is looked for what is to be sent, where the feed says nothing of it.
const EVERY: Duration = Duration::from_secs(5);
/// The first pause after one was not taken; each further one is twice as long.
const PAUSE: Duration = Duration::from_secs(2);
/// The longest pause.
const LONGEST_PAUSE: Duration = Duration::from_secs(3600);
/// How long one event is tried.
const GIVEN_UP: Duration = Duration::from_secs(3 * 86_400);
/// Changes that are read at once.
const BATCH: i64 = 500;

/// Sends what is to be sent for as long as this replica leads, until told to stop.
pub async fn run(app: App) {
    let sender = match sender(&app) {
        Ok(sender) => sender,
        Err(error) => {
            tracing::error!(%error, "events cannot be sent: TLS is unavailable");
            return app.stop.cancelled().await;
        }
    };
    let mut changes = app.feed.subscribe();
    let mut sending: JoinSet<Uuid> = JoinSet::new();
    let mut busy: HashMap<Uuid, tokio::task::AbortHandle> = HashMap::new();
    loop {
        app.turns.turn(Task::Webhooks);
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            heard = changes.recv() => {
                match heard {
                    Ok(changes) if !changes.iter().any(|one| is_for_listeners(&one.change)) => {
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
                        sending.spawn(deliver_pending(app.clone(), sender.clone(), listener))
                    });
                }
            }
            Err(error) => tracing::debug!(%error, "the listeners could not be read; retrying"),
        }
    }
}

/// Whether there may be something to send after this change. One that cannot be read may be of that kind.
fn is_for_listeners(change: &Result<Change, Undecodable>) -> bool {
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

/// The listeners that may be sent something now.
async fn due(app: &App) -> Result<Vec<Listener>, Error> {
    let now = app.clock.now();
    let mut connection = app.store.tasks().await?;
    let mut all = listener::list(&mut connection).await?;
    all.retain(|one| !one.paused && one.retry_at.is_none_or(|at| at.0 <= now));
    Ok(all)
}

/// Sends a listener everything that is there for it, or as far as it takes it.
async fn deliver_pending(app: App, sender: reqwest::Client, listener: Listener) -> Uuid {
    if let Err(error) = deliver_all(&app, &sender, &listener).await {
        tracing::debug!(listener = listener.name, %error, "the delivery could not be recorded");
    }
    listener.id
}

async fn deliver_all(
    app: &App,
    sender: &reqwest::Client,
    listener: &Listener,
) -> Result<(), Error> {
    let mut cursor = listener.cursor();
    loop {
        let low = app.feed.low().await;
        let mut connection = app.store.tasks().await?;
        let found = outbox::alerts_after(&mut connection, cursor, low, BATCH).await?;
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
        let mut connection = app.store.tasks().await?;
        listener::note_sent(&mut connection, listener.id, last, 0, app.clock.now()).await?;
        cursor = last;
    }
}

/// Sends one event and notes what came of it. False when it is to be retried later.
async fn deliver(
    app: &App,
    sender: &reqwest::Client,
    listener: &Listener,
    event: &Event,
    at: Cursor,
) -> Result<bool, Error> {
    let sent = send(app, sender, listener, event).await;
    let now = app.clock.now();
    let mut connection = app.store.tasks().await?;
    let message = match sent {
        Ok(_) => {
            listener::note_sent(&mut connection, listener.id, at, 1, now).await?;
            return Ok(true);
        }
        Err(message) => message,
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
            message,
            "an event is skipped"
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
            message,
            "an event could not be sent; it will be retried"
        );
    }
    listener::note_send_failure(&mut connection, listener.id, &message, now + pause, now).await?;
    Ok(false)
}
