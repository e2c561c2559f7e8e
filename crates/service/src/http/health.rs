//! Whether the process lives, and whether it can do its work.

use crate::app::App;
use axum::Router;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::get;
use pennine_store::leadership;

/// `/healthz` and `/readyz`.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/healthz", get(async || "the process lives\n"))
        .route("/readyz", get(ready))
}

/// Ready: the database answers, and some replica leads.
async fn ready(State(app): State<App>) -> impl IntoResponse {
    let leader = async {
        let mut connection = app.store.get().await?;
        leadership::current(&mut connection).await
    };
    match leader.await {
        Ok(leader) if leader.live => (
            StatusCode::OK,
            "ready: the database answers and dispatch is led\n".to_owned(),
        ),
        Ok(_) => (
            StatusCode::SERVICE_UNAVAILABLE,
            "not ready: no replica leads dispatch just now\n".to_owned(),
        ),
        Err(error) => {
            tracing::debug!(%error, "not ready");
            (
                StatusCode::SERVICE_UNAVAILABLE,
                "not ready: the database does not answer\n".to_owned(),
            )
        }
    }
}
