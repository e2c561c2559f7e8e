//! Files that are uploaded for runs.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::objects::StreamError;
use crate::operations::transaction::commit;
use crate::views;
use bytes::Bytes;
use futures::Stream;
use object_store::path::Path as ObjectPath;
use pennine_core::access::Action;
use pennine_core::id::SourceId;
use pennine_core::size::ByteSize;
use pennine_store::source_archive::{self, SourceArchive};
use pennine_store::types::Db;
use pennine_store::{Connection, audit};
use pennine_wire::UploadedSource;
use serde_json::json;

/// Where an archive's bytes are.
pub fn place(id: SourceId) -> ObjectPath {
    ObjectPath::from(format!("sources/{id}"))
}

/// Why an upload is refused: its body, or the service.
pub enum UploadError<E> {
    /// The body could not be read.
    Body(E),
    /// Anything else.
    Service(ServiceError),
}

impl<E, F: Into<ServiceError>> From<F> for UploadError<E> {
    fn from(error: F) -> Self {
        UploadError::Service(error.into())
    }
}

/// Stores an archive for runs of a project. What it contains is looked at by the job that unpacks it, with the job's own rights.
///
/// # Errors
/// Unknown or forbidden, as for submitting a job there; what the body returns.
pub async fn upload<E>(
    app: &App,
    who: &Principal,
    project: &str,
    body: impl Stream<Item = Result<Bytes, E>>,
) -> Result<UploadedSource, UploadError<E>> {
    let mut connection = app.store.people().await?;
    let project = views::people::place::project(app, &mut connection, who, project)
        .await
        .map_err(|failure| failure.field("project"))?;
    drop(connection);
    let permit = who.require(Action::SubmitJob, &project.path)?;
    let id = SourceId(app.fresh_id());
    let objects = app.logs.objects();
    let (size, hash) = match objects.put_stream(&place(id), body).await {
        Ok(stored) => stored,
        Err(StreamError::Piece(error)) => return Err(UploadError::Body(error)),
        Err(StreamError::Store(error)) => return Err(ServiceError::ours(&error).into()),
    };
    let digest: String = hash.iter().map(|byte| format!("{byte:02x}")).collect();
    let archive = SourceArchive {
        id: Db(id),
        project_id: project.id,
        bytes: i64::try_from(size).unwrap_or(i64::MAX),
        digest: digest.clone(),
    };
    commit(app, async |connection| {
        let at = app.clock.now();
        source_archive::add(connection, &archive, &who.name, at).await?;
        let detail = json!({"bytes": size, "sha256": digest});
        let subject = id.to_string();
        audit::write(connection, at, &permit, "source.upload", &subject, detail).await?;
        Ok(())
    })
    .await?;
    Ok(UploadedSource {
        id,
        bytes: ByteSize(size),
        digest,
    })
}

/// Checks that an archive was uploaded for a project.
///
/// # Errors
/// Invalid where there is none: it was removed, or belongs to another project.
pub async fn check(
    connection: &mut Connection,
    source: Option<SourceId>,
    project: pennine_core::id::PlaceId,
) -> Result<()> {
    let Some(id) = source else { return Ok(()) };
    let found = source_archive::find(connection, id).await?;
    match found.filter(|found| found.project_id.0 == project) {
        Some(_) => Ok(()),
        None => {
            let message =
                "no files with this id were uploaded for the project, or they were removed since";
            Err(ServiceError::invalid("source", message)
                .remedy("upload them again: POST /api/v1/sources"))
        }
    }
}
