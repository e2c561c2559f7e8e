//! Writes with an Idempotency-Key: what is kept of each, so that it is made once.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_store::idempotency::{self, KeyReservation};
use std::time::Duration;
use uuid::Uuid;

/// The answer to an earlier write with the same key.
pub struct EarlierAnswer {
    pub status: u16,
    pub body: Vec<u8>,
}

/// The id of what a write with a key makes.
#[derive(Clone, Copy, Debug)]
pub struct PlannedId {
    pub id: Uuid,
    /// Whether it may be there already, from a request that did not get to its end.
    pub may_exist: bool,
}

/// A write with a key that has begun.
pub enum KeyedWrite {
    /// It is to be made.
    Make(PlannedId),
    /// It was made before.
    Made(EarlierAnswer),
}

/// A request without an answer is over this much after its time limit: its process is gone.
const MARGIN: Duration = Duration::from_secs(5);

/// Begins a write with a key.
///
/// # Errors
/// A conflict while the first write is in progress, or where its answer held a secret; invalid where the key was used for
/// another write.
pub async fn begin(app: &App, who: &Principal, key: &str, body_hash: &[u8]) -> Result<KeyedWrite> {
    let mut connection = app.store.people().await?;
    let (now, subject) = (app.clock.now(), app.fresh_id());
    let limit = Duration::from_secs(app.config.limits.request_seconds) + MARGIN;
    let begun = idempotency::begin(
        &mut connection,
        (who.id, key),
        body_hash,
        subject,
        now,
        now - limit,
    );
    let kept = match begun.await? {
        KeyReservation::Own(id) => {
            let may_exist = id != subject;
            return Ok(KeyedWrite::Make(PlannedId { id, may_exist }));
        }
        KeyReservation::Known(kept) => kept,
    };
    if kept.body_hash != body_hash {
        return Err(ServiceError::invalid(
            "Idempotency-Key",
            "this key was used for another request; use a new key for a new request",
        ));
    }
    let status = kept.status.and_then(|status| u16::try_from(status).ok());
    match (status, kept.answer) {
        (Some(status), Some(body)) => Ok(KeyedWrite::Made(EarlierAnswer { status, body })),
        (Some(_), None) => Err(ServiceError::conflict(
            "answer-not-kept",
            "The answer is not kept",
            "this request was made; its answer held a secret, which is shown once",
        )
        .remedy("revoke or remove what it made, and make a new one with a new key")),
        (None, _) => Err(ServiceError::conflict(
            "still-in-progress",
            "The first request with this key is still in progress",
            "wait for its answer, or ask again in a moment",
        )),
    }
}

/// Keeps the answer of a write that was made; none where it holds a secret.
pub async fn finish(
    app: &App,
    who: &Principal,
    key: &str,
    status: u16,
    body: Option<&[u8]>,
) -> Result<()> {
    let mut connection = app.store.people().await?;
    Ok(idempotency::finish(&mut connection, who.id, key, status, body).await?)
}

/// Forgets a write that failed, so that it can be sent again with its key.
pub async fn forget(app: &App, who: &Principal, key: &str) -> Result<()> {
    let mut connection = app.store.people().await?;
    Ok(idempotency::forget(&mut connection, who.id, key).await?)
}
