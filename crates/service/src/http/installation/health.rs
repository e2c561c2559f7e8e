//! Whether the process lives, and whether it can do its work.

use crate::app::App;
use crate::views::installation::health::{Readiness, readiness};
use axum::Router;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::get;

/// `/healthz` and `/readyz`.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/healthz", get(async || "the process lives\n"))
        .route("/readyz", get(ready))
}

/// Ready: the database answers, and some replica leads.
async fn ready(State(app): State<App>) -> impl IntoResponse {
    match readiness(&app).await {
        Readiness::Ready => (
            StatusCode::OK,
            format!(
                "ready: the database answers and dispatch is led\n{}",
                unreadable_changes(&app)
            ),
        ),
        Readiness::NotLed => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: no replica leads dispatch just now\n".to_owned(),
        ),
        Readiness::DatabaseAway => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: the database does not answer\n".to_owned(),
        ),
    }
}

/// The changes that this version could not read, a line each; empty when there is none.
fn unreadable_changes(app: &App) -> String {
    let (count, latest) = app.feed.unreadable();
    if count == 0 {
        return String::new();
    }
    let mut text = format!("changes that this version cannot read: {count}; the latest:\n");
    for (cursor, error) in latest {
        text.push_str(&format!("  {cursor}: {error}\n"));
    }
    text
}
