//! Whether the process lives, and whether it can do its work.

use crate::app::App;
use crate::background::Task;
use crate::views::installation::health::{Readiness, readiness};
use axum::Router;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::get;
use pennine_core::time::spoken;

/// `/healthz` and `/readyz`.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/healthz", get(async || "the process lives\n"))
        .route("/readyz", get(ready))
}

/// Ready: the database answers, some replica leads, and no background task has stalled.
async fn ready(State(app): State<App>) -> impl IntoResponse {
    let (status, message) = match readiness(&app).await {
        Readiness::Ready => (
            StatusCode::OK,
            "ready: the database answers and dispatch is led",
        ),
        Readiness::NotLed => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: no replica leads dispatch just now",
        ),
        Readiness::DatabaseAway => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: the database does not answer",
        ),
        Readiness::Stalled => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: a background task of this replica has stalled; restart it, and report its log",
        ),
        Readiness::KeyMissing => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: the key in use is not in this replica's key file; copy the file from the replica where pennined rotate-key ran",
        ),
    };
    let text = format!(
        "{message}\n{}{}",
        background_tasks(&app),
        unreadable_changes(&app)
    );
    (status, text)
}

/// When each background task of this replica last made a turn, a line each.
fn background_tasks(app: &App) -> String {
    let stalled: Vec<Task> = app.turns.stalled().iter().map(|one| one.task).collect();
    let mut text = "last turn of each background task:\n".to_owned();
    for task in Task::ALL {
        let Some(since) = app.turns.since(task) else {
            continue;
        };
        let mark = if stalled.contains(&task) {
            ": STALLED"
        } else {
            ""
        };
        text.push_str(&format!("  {task}: {} ago{mark}\n", spoken(since)));
    }
    text
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
