//! Listeners.

use crate::access::Principal;
use crate::app::App;
use crate::cloud_events::Source;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::validation::check_name;
use crate::views::measures::listener::{find, shown};
use crate::webhook_client::{self, FORMER};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use pennine_core::access::Action;
use pennine_core::alert::AlertKind;
use pennine_store::change_lock::lock_for_change;
use pennine_store::listener::{self, Listener as Row};
use pennine_store::{Db, audit};
use pennine_wire::{Listener, ListenerChange, MadeListener, NewListener, TriedListener};
use rand::RngExt;
use serde_json::json;
use uuid::Uuid;

/// The most listeners.
const MOST: usize = 100;

/// The longest address.
const LONGEST: usize = 2000;

/// Checks an address, as far as it can be without resolving its name.
fn check_url(app: &App, url: &str) -> Result<()> {
    let wrong = |message: &str| Err(ServiceError::invalid("url", message));
    if url.len() > LONGEST {
        return wrong("an address has at most 2000 bytes");
    }
    let Ok(parsed) = reqwest::Url::parse(url) else {
        return wrong("give a complete address, such as https://bell.skerry.example/pennine");
    };
    if !matches!(parsed.scheme(), "http" | "https") || !parsed.has_host() {
        return wrong("an address begins with http:// or https:// and names a host");
    }
    if let Err(error) = app.outgoing.check_url(&parsed) {
        return Err(ServiceError::invalid("url", error.to_string()));
    }
    if !parsed.username().is_empty() || parsed.password().is_some() {
        return wrong(
            "an address must not contain a password: events are signed, so that the listener can verify the sender",
        );
    }
    Ok(())
}

fn check_kinds(kinds: &[String]) -> Result<Vec<String>> {
    for (n, kind) in kinds.iter().enumerate() {
        kind.parse::<AlertKind>()
            .map_err(|message| ServiceError::invalid(&format!("kinds[{n}]"), message))?;
    }
    let mut kinds = kinds.to_vec();
    kinds.sort();
    kinds.dedup();
    Ok(kinds)
}

/// A new secret as Standard Webhooks write it, and locked.
fn fresh_secret(app: &App, id: Uuid) -> Result<(String, String)> {
    let bytes: [u8; 32] = rand::rng().random();
    let secret = format!("whsec_{}", STANDARD.encode(bytes));
    let locked = app.encryption.lock(&webhook_client::lock_name(id), &secret);
    let locked = locked.ok_or_else(|| {
        ServiceError::ours(&std::io::Error::other("a secret could not be encrypted"))
    })?;
    Ok((secret, locked))
}

/// Add a listener: it is sent each alert from now on, as signed events. Its secret is shown this once.
pub async fn add(app: &App, who: &Principal, new: NewListener) -> Result<MadeListener> {
    // It makes the service ask any address.
    let permit = who.require(Action::ManageSubscribers, "")?;
    check_name("name", &new.name)?;
    check_url(app, &new.url)?;
    let kinds = check_kinds(&new.kinds)?;
    commit(app, async |connection| {
        let there = listener::list(connection).await?;
        if there.iter().any(|row| row.name == new.name) {
            let message = format!("a listener {:?} already exists", new.name);
            return Err(ServiceError::taken(message));
        }
        if there.len() >= MOST {
            let message = format!("{MOST} listeners already exist");
            return Err(ServiceError::conflict("too-many", "Too many", message));
        }
        let now = app.clock.now();
        let from = app.feed.low().await;
        let mut row = Row::new(app.fresh_id(), &new.name, &who.name, now, from);
        row.url = new.url;
        row.kinds = kinds;
        let (secret, locked) = fresh_secret(app, row.id)?;
        row.secret = locked;
        listener::write(connection, &row, now).await?;
        let detail = json!({"url": row.url, "kinds": row.kinds});
        audit::write(connection, now, &permit, "listener.add", &new.name, detail).await?;
        Ok(MadeListener {
            listener: shown(row),
            secret,
        })
    })
    .await
}

/// Change where a listener is, what it hears of, or whether it is paused. It is retried at once.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: ListenerChange,
    expected: &ExpectedVersion,
) -> Result<Listener> {
    let permit = who.require(Action::ManageSubscribers, "")?;
    commit(app, async |connection| {
        lock_for_change(connection, "listener", name).await?;
        let mut row = find(connection, name).await?;
        expected
            .check(connection, &row, "listener.change", name)
            .await?;
        if let Some(url) = change.url {
            check_url(app, &url)?;
            row.url = url;
        }
        if let Some(kinds) = &change.kinds {
            row.kinds = check_kinds(kinds)?;
        }
        row.paused = change.paused.unwrap_or(row.paused);
        let now = app.clock.now();
        listener::write(connection, &row, now).await?;
        let detail = json!({"url": row.url, "kinds": row.kinds, "paused": row.paused});
        audit::write(connection, now, &permit, "listener.change", name, detail).await?;
        Ok(shown(find(connection, name).await?))
    })
    .await
}

/// Remove a listener.
pub async fn remove(app: &App, who: &Principal, name: &str) -> Result<()> {
    let permit = who.require(Action::ManageSubscribers, "")?;
    commit(app, async |connection| {
        let row = find(connection, name).await?;
        let now = app.clock.now();
        listener::remove(connection, row.id, now).await?;
        let detail = json!({"url": row.url});
        audit::write(connection, now, &permit, "listener.remove", name, detail).await?;
        Ok(())
    })
    .await
}

/// Give a listener another secret, which is shown this once. Events are signed with the one before too, for a day.
pub async fn renew(app: &App, who: &Principal, name: &str) -> Result<MadeListener> {
    let permit = who.require(Action::ManageSubscribers, "")?;
    commit(app, async |connection| {
        lock_for_change(connection, "listener", name).await?;
        let mut row = find(connection, name).await?;
        let now = app.clock.now();
        let (secret, locked) = fresh_secret(app, row.id)?;
        row.previous_secret = Some(std::mem::replace(&mut row.secret, locked));
        row.previous_until = Some(Db(now + FORMER));
        listener::write(connection, &row, now).await?;
        audit::write(connection, now, &permit, "listener.renew", name, json!({})).await?;
        Ok(MadeListener {
            listener: shown(find(connection, name).await?),
            secret,
        })
    })
    .await
}

/// Send a listener an event to try it, now, and say what came of it.
pub async fn try_out(app: &App, who: &Principal, name: &str) -> Result<TriedListener> {
    who.require(Action::ReadDeliveries, "")?;
    let mut connection = app.store.people().await?;
    let row = find(&mut connection, name).await?;
    drop(connection);
    let event = Source::of(app).trial(app.fresh_id(), app.clock.now());
    let sender = webhook_client::sender(app).map_err(|error| ServiceError::ours(&error))?;
    let (taken, message) = match webhook_client::send(app, &sender, &row, &event).await {
        Ok(message) => (true, message),
        Err(message) => (false, message),
    };
    Ok(TriedListener { taken, message })
}
