//! What a job asks of the runner that runs it, and reports to it, over the socket that only its attempt can reach.

use crate::{Link, Result, Route};
use bytes::Bytes;
use futures::{Stream, TryStreamExt};
use pennine_core::identity::SigningAlgorithm;
use pennine_wire::runner_protocol::{IdentityToken, PhaseReport};
use reqwest::Method;
use std::path::Path;
use std::time::Duration;

/// How long an archive of files may take.
const LARGE: Duration = Duration::from_secs(3600);

/// Asks for an identity token at the socket that `PENNINE_IDENTITY_SOCKET` names.
///
/// # Errors
/// Where the runner is not there, or the service refuses.
pub async fn job_identity(
    socket: &Path,
    audience: &str,
    algorithm: SigningAlgorithm,
) -> Result<IdentityToken> {
    let route = Route::default().through(Some(socket.to_owned()));
    // The name is not looked up: the socket leads to the runner.
    let link = Link::new("http://runner", "", &route)?;
    let request = link.request(Method::GET, "/identity");
    let asked = [("audience", audience), ("algorithm", algorithm.word())];
    link.json(request.query(&asked)).await
}

/// Returns the archive of files with which the job begins, as it comes from the same socket.
///
/// # Errors
/// Where the runner is not there, or the service refuses.
pub async fn job_source(
    socket: &Path,
) -> Result<impl Stream<Item = std::io::Result<Bytes>> + use<>> {
    let route = Route::default().through(Some(socket.to_owned()));
    let link = Link::new("http://runner", "", &route)?;
    let request = link.request(Method::GET, "/source").timeout(LARGE);
    let answer = link.send(request).await?;
    Ok(answer.bytes_stream().map_err(std::io::Error::other))
}

/// Reports a part of the job at the same socket.
///
/// # Errors
/// Where the runner is not there.
pub async fn report_phase(socket: &Path, report: &PhaseReport) -> Result<()> {
    let route = Route::default().through(Some(socket.to_owned()));
    let link = Link::new("http://runner", "", &route)?;
    let request = link.request(Method::POST, "/phase").json(report);
    link.send(request).await.map(drop)
}
