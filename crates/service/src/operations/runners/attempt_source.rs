//! The files with which an attempt's job begins, given to the runner that runs it.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::jobs::source::place;
use crate::operations::runners::reports::{held, over};
use bytes::Bytes;
use futures::stream::BoxStream;
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_store::attempt::report::holds_lease;
use pennine_store::credential::CredentialHolder;
use pennine_store::source_archive;

/// An archive's size, and its bytes.
pub type SourceStream = (u64, BoxStream<'static, Result<Bytes, object_store::Error>>);

/// Returns the archive of an attempt.
///
/// # Errors
/// Gone where the attempt has ended or is another runner's; unknown where it has no archive, or the archive was removed.
pub async fn read(
    app: &App,
    known: &CredentialHolder,
    attempt: AttemptId,
    lease: LeaseToken,
) -> Result<SourceStream> {
    let mut connection = app.store.runners().await?;
    if !holds_lease(&mut connection, held(known, attempt, lease)).await? {
        return Err(over(attempt));
    }
    let found = source_archive::of_attempt(&mut connection, attempt).await?;
    drop(connection);
    let missing = || ServiceError::unknown("source", &attempt.to_string());
    let archive = found.ok_or_else(missing)?;
    let stream = app.logs.objects().get_stream(&place(archive.id.0)).await;
    let stream = stream.map_err(|error| match error {
        object_store::Error::NotFound { .. } => missing(),
        other => ServiceError::ours(&other),
    })?;
    Ok((archive.bytes.max(0).unsigned_abs(), stream))
}
