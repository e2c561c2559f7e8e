//! Files that are uploaded for runs.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Failure;
use crate::http::body::Params;
use crate::http::upload;
use crate::operations::jobs::source::{self, UploadError};
use axum::Json;
use axum::extract::{Request, State};
use axum::http::StatusCode;
use pennine_wire::{Problem, UploadedSource};
use serde::Deserialize;
use utoipa::IntoParams;

/// For which project files are uploaded.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct SourceParams {
    /// The project's path, or its name if that is unique.
    project: String,
}

/// Upload the files with which the jobs of a run begin: a tar archive, compressed with gzip. It is removed some days later.
#[utoipa::path(post, operation_id = "upload_source", path = "/sources", tag = "jobs", params(SourceParams),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 201, body = UploadedSource), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn upload(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<SourceParams>,
    request: Request,
) -> Result<(StatusCode, Json<UploadedSource>), Failure> {
    let pieces = upload::pieces(request.into_body(), app.config.limits.source_bytes);
    match source::upload(&app, &who, &params.project, pieces).await {
        Ok(uploaded) => Ok((StatusCode::CREATED, Json(uploaded))),
        Err(UploadError::Body(failure)) => Err(failure),
        Err(UploadError::Service(error)) => Err(error.into()),
    }
}
