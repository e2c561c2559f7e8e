//! Hands out the runner's program to machines that join: for each platform that this replica holds it for, with its
//! SHA-256, and a short script that fetches, checks and installs it. No authentication is needed.

use crate::app::App;
use crate::error::ServiceError;
use crate::http::answer::Answer;
use crate::programs::NAME;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use pennine_wire::runner_protocol::Program;
use std::io;
use tokio_util::io::ReaderStream;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/join.sh", get(script))
        .route("/runner/v1/programs", get(list))
        .route("/runner/v1/programs/{platform}", get(fetch))
}

/// The platforms that the runner's program is held for.
async fn list(State(app): State<App>) -> Answer<Json<Vec<Program>>> {
    let held = app.programs.held().await;
    let shown = held.into_iter().map(|one| Program {
        sha256: hex::encode(one.sha256),
        bytes: pennine_core::size::ByteSize(one.bytes),
        platform: one.platform,
    });
    Ok(Json(shown.collect()))
}

/// The program for one platform.
async fn fetch(State(app): State<App>, Path(platform): Path<String>) -> Answer<Response> {
    let held = app.programs.held().await;
    let Some(one) = held.iter().find(|one| one.platform == platform) else {
        let known: Vec<&str> = held.iter().map(|one| one.platform.as_str()).collect();
        let failure = ServiceError::unknown("program", &platform);
        return Err(failure.remedy(format!(
            "it is held for {}; put others into programs_dir as {NAME}-PLATFORM",
            if known.is_empty() {
                "no platform".into()
            } else {
                known.join(", ")
            }
        )));
    };
    let gone = |error: io::Error| {
        tracing::warn!(%error, path = %one.path.display(), "the runner's program cannot be read");
        ServiceError::unknown("program", &platform)
    };
    let file = tokio::fs::File::open(&one.path).await.map_err(gone)?;
    // The digest as RFC 9530 writes it.
    let digest = format!("sha-256=:{}:", BASE64_STANDARD.encode(one.sha256));
    let headers = [
        (
            header::CONTENT_TYPE.as_str(),
            "application/octet-stream".to_owned(),
        ),
        (header::CONTENT_LENGTH.as_str(), one.bytes.to_string()),
        ("repr-digest", digest),
    ];
    Ok((headers, Body::from_stream(ReaderStream::new(file))).into_response())
}

/// The script with which a machine gets the program and joins.
async fn script(State(app): State<App>) -> Answer<Response> {
    let script = app.join_script().await;
    let headers = [
        (header::CONTENT_TYPE, "text/x-shellscript; charset=utf-8"),
        (header::CACHE_CONTROL, "no-cache"),
    ];
    Ok((headers, script).into_response())
}
