//! What verifiers of identity tokens read: who issues them, and the keys that sign them.

use crate::app::App;
use crate::http::answer::Answer;
use crate::views::installation::identity;
use axum::extract::State;
use axum::http::header::CACHE_CONTROL;
use axum::response::IntoResponse;
use axum::routing::get;
use axum::{Json, Router};

/// How long verifiers may keep what they read: keys are published a day before they sign.
const KEPT: &str = "public, max-age=300";

/// The two documents, at the addresses that OpenID Connect Discovery 1.0 names. No token is needed to read them.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/.well-known/openid-configuration", get(discovery))
        .route(identity::KEYS_PATH, get(keys))
}

async fn discovery(State(app): State<App>) -> impl IntoResponse {
    ([(CACHE_CONTROL, KEPT)], Json(identity::discovery(&app)))
}

async fn keys(State(app): State<App>) -> Answer<impl IntoResponse> {
    let document = identity::keys(&app).await?;
    Ok(([(CACHE_CONTROL, KEPT)], Json(document)))
}
