//! `/metrics`: OpenMetrics text, with the names of OpenTelemetry's CI/CD semantic conventions where there is one.
//!
//! What counts up is read from the sums of the record, so that every replica says the same and a restart resets nothing. A
//! job is the conventions' pipeline run, its project their pipeline, a runner their worker.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::views;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;

/// What it is, for who scrapes it.
const TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// The metrics. They need a token, as everything does.
pub async fn metrics(State(app): State<App>, who: Principal) -> Answer<impl IntoResponse> {
    let body = views::measures::metrics::text(&app, &who).await?;
    Ok(([(header::CONTENT_TYPE, TYPE)], body))
}
