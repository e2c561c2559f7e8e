//! Logs, by bytes and by lines, as far as they have come or on from there.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::jobs::logs::{ByteParams, LineParams};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use pennine_wire::{LOG_ATTEMPT, LOG_COMPLETE, LogLines, NEXT_OFFSET, Problem};

/// A job's log as bytes from an offset on, at most 1 MiB. The header `pennine-next-offset` tells where to go on,
/// `pennine-log-complete` that nothing more will come.
#[utoipa::path(get, operation_id = "read_log", path = "/jobs/{job}/log", tag = "jobs", params(ByteParams, ("job" = String, Path, description = "its id or short name")),
    responses((status = 200, body = [u8], content_type = "application/octet-stream"),
              (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn bytes(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    Params(params): Params<ByteParams>,
) -> Answer<(HeaderMap, Vec<u8>)> {
    let read = views::jobs::logs::bytes(&app, &who, &text, params).await?;
    let mut headers = HeaderMap::new();
    headers.insert(
        header::CONTENT_TYPE,
        HeaderValue::from_static("application/octet-stream"),
    );
    let mut set = |name: &'static str, value: String| {
        if let Ok(value) = HeaderValue::from_str(&value) {
            headers.insert(HeaderName::from_static(name), value);
        }
    };
    set(NEXT_OFFSET, read.next_offset.to_string());
    if let Some(attempt) = read.attempt {
        set(LOG_ATTEMPT, attempt.to_string());
    }
    if read.is_complete {
        set(LOG_COMPLETE, "true".into());
    }
    Ok((headers, read.bytes))
}

/// A job's log as lines.
#[utoipa::path(get, operation_id = "read_log_lines", path = "/jobs/{job}/log/lines", tag = "jobs", params(LineParams, ("job" = String, Path, description = "its id or short name")),
    responses((status = 200, body = LogLines), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn lines(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    Params(params): Params<LineParams>,
) -> Answer<Json<LogLines>> {
    Ok(Json(
        views::jobs::logs::lines(&app, &who, &text, params).await?,
    ))
}
