//! Writes with an Idempotency-Key: what is kept of each, so that it is made once.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_store::idempotency;

/// The answer to an earlier write with the same key.
pub struct EarlierAnswer {
    pub status: u16,
    pub body: Vec<u8>,
}

/// Begins a write with a key; the earlier answer where it was made before.
///
/// # Errors
/// A conflict while the first write is in progress; invalid where the key was used for another write.
pub async fn begin(
    app: &App,
    who: &Principal,
    key: &str,
    body_hash: &[u8],
) -> Result<Option<EarlierAnswer>> {
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let kept = idempotency::begin(&mut connection, who.token, key, body_hash, now).await?;
    let Some(kept) = kept else { return Ok(None) };
    if kept.body_hash != body_hash {
        return Err(ServiceError::invalid(
            "Idempotency-Key",
            "this key was used for another request; use a new key for a new request",
        ));
    }
    let status = kept.status.and_then(|status| u16::try_from(status).ok());
    match (status, kept.answer) {
        (Some(status), Some(body)) => Ok(Some(EarlierAnswer { status, body })),
        _ => Err(ServiceError::conflict(
            "still-in-progress",
            "The first request with this key is still in progress",
            "wait for its answer, or ask again in a moment",
        )),
    }
}

/// Keeps the answer of a write that was made.
pub async fn finish(app: &App, who: &Principal, key: &str, status: u16, body: &[u8]) -> Result<()> {
    let mut connection = app.store.get().await?;
    Ok(idempotency::finish(&mut connection, who.token, key, status, body).await?)
}

/// Forgets a write that failed, so that it can be sent again with its key.
pub async fn forget(app: &App, who: &Principal, key: &str) -> Result<()> {
    let mut connection = app.store.get().await?;
    Ok(idempotency::forget(&mut connection, who.token, key).await?)
}
