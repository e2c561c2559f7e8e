//! Signing in and out, and finding out who asks.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::secret::{self, Purpose};
use pennine_core::access::Grant;
use pennine_core::time::Moment;
use pennine_store::Connection;
use pennine_store::audit;
use pennine_store::token::{self, Token};
use serde_json::json;
use std::net::IpAddr;
use std::time::Duration;

/// A sign-in that has just begun.
pub struct SignedIn {
    /// The cookie's value.
    pub cookie: String,
    pub lifetime: Duration,
    pub until: Moment,
    pub name: String,
    pub grant: Grant,
}

/// Signs in with a token.
///
/// # Errors
/// Unauthenticated where the token is unknown, has expired, or was revoked; too many attempts where its address has shown
/// many such.
pub async fn sign_in(app: &App, token: &str, peer: Option<IpAddr>) -> Result<SignedIn> {
    let hash = secret::hash(token.trim());
    let begun = app
        .failed_attempts
        .guard(peer, &hash, begin_session(app, &hash))
        .await?;
    begun.ok_or_else(|| {
        ServiceError::unauthenticated("the token is unknown, has expired, or was revoked")
            .field("token")
    })
}

async fn begin_session(app: &App, token_hash: &[u8]) -> Result<Option<SignedIn>> {
    let now = app.clock.now();
    commit(app, async |connection| {
        let Some(found) = token::by_secret(connection, token_hash, now).await? else {
            return Ok(None);
        };
        let cookie = secret::fresh(Purpose::Cookie);
        let lifetime = Duration::from_secs(app.config.session.hours.saturating_mul(3600));
        let until = now + lifetime;
        let hash = secret::hash(&cookie);
        token::sign_in(connection, &hash, found.id, now, until).await?;
        let detail = json!({"until": until});
        audit::write(
            connection,
            now,
            &found.name,
            "session.begin",
            &found.name,
            detail,
        )
        .await?;
        Ok(Some(SignedIn {
            cookie,
            lifetime,
            until,
            name: found.name,
            grant: Grant {
                role: found.role.0,
                place: found.place,
            },
        }))
    })
    .await
}

/// Ends the sign-in of a cookie.
pub async fn sign_out(app: &App, cookie: &str) -> Result<()> {
    let (now, hash) = (app.clock.now(), secret::hash(cookie));
    commit(app, async |connection| {
        let Some((token, _)) = token::by_cookie(connection, &hash, now).await? else {
            return Ok(());
        };
        token::sign_out(connection, &hash).await?;
        let name = &token.name;
        Ok(audit::write(connection, now, name, "session.end", name, json!({})).await?)
    })
    .await
}

/// Records a refusal, or a failed sign-in. The same refusal is recorded once a minute, so that repeated requests do not fill the
/// record.
pub async fn note_refusal(app: &App, who: Option<&Principal>, what: &str) {
    let key = (who.map(|who| who.token), what.to_owned());
    let is_new = app.refusals.entry_by_ref(&key).or_insert(()).is_fresh();
    if !is_new {
        return;
    }
    let name = who.map_or("", |who| who.name.as_str());
    let written = async {
        let mut connection = app.store.people().await?;
        audit::write(
            &mut connection,
            app.clock.now(),
            name,
            "refused",
            what,
            json!({}),
        )
        .await
    };
    if let Err(error) = written.await {
        app.refusals.invalidate(&key);
        tracing::warn!(%error, who = name, what, "a refusal could not be recorded");
    }
}

/// Notes that a token was used. Where that fails, the request goes on.
async fn note_use(connection: &mut Connection, token: &Token, peer: Option<IpAddr>, now: Moment) {
    let from = peer.map(|address| address.to_canonical().to_string());
    if let Err(error) = token::note_use(connection, token, from.as_deref(), now).await {
        tracing::warn!(%error, token = token.name, "the use of a token could not be recorded");
    }
}

/// Returns who shows this token.
///
/// # Errors
/// Unauthenticated where the token is unknown, has expired, or was revoked; one that is revoked is refused a second later
/// at most. Too many attempts where its address has shown many such.
pub async fn by_token(app: &App, secret: &str, peer: Option<IpAddr>) -> Result<Principal> {
    let now = app.clock.now();
    let hash = secret::hash(secret);
    let holds = |token: &Token| token.expires_at.is_none_or(|until| until.0 > now);
    if let Some(token) = app.tokens.get(&hash).filter(holds) {
        return Ok(Principal::of(token, None));
    }
    let look_up = async {
        let mut connection = app.store.people().await?;
        let found = token::by_secret(&mut connection, &hash, now).await?;
        if let Some(token) = &found {
            note_use(&mut connection, token, peer, now).await;
        }
        Ok(found)
    };
    let found = app.failed_attempts.guard(peer, &hash, look_up).await?;
    let Some(token) = found else {
        return Err(ServiceError::unauthenticated(
            "the token is unknown, has expired, or was revoked",
        ));
    };
    app.tokens.insert(hash, token.clone());
    Ok(Principal::of(token, None))
}

/// Returns who shows this cookie.
///
/// # Errors
/// Unauthenticated where the sign-in has ended; too many attempts where its address has shown many unknown cookies.
pub async fn by_cookie(app: &App, cookie: &str, peer: Option<IpAddr>) -> Result<Principal> {
    let hash = secret::hash(cookie);
    let look_up = async {
        let mut connection = app.store.people().await?;
        let now = app.clock.now();
        let found = token::by_cookie(&mut connection, &hash, now).await?;
        if let Some((token, _)) = &found {
            note_use(&mut connection, token, peer, now).await;
        }
        Ok(found)
    };
    let key = [b"cookie ", hash.as_slice()].concat();
    match app.failed_attempts.guard(peer, &key, look_up).await? {
        Some((token, until)) => Ok(Principal::of(token, Some(until))),
        None => Err(ServiceError::unauthenticated("the sign-in has ended")),
    }
}
