//! One transaction for a change and its audit row.

use crate::app::App;
use crate::error::Result;
use pennine_store::Connection;
use pennine_store::connect::in_transaction;

/// Runs a change with its audit row in one transaction, and tells the feed of it once it is committed. An error undoes
/// everything. What is done beside the record (waking polls, forgetting what was cached) belongs after it.
pub async fn commit<T>(
    app: &App,
    change: impl AsyncFnOnce(&mut Connection) -> Result<T>,
) -> Result<T> {
    let mut connection = app.store.people().await?;
    let done = in_transaction(&mut connection, change).await?;
    app.feed.kick();
    Ok(done)
}
