//! The console: built into the program.

use crate::app::App;
use crate::http::answer;
use axum::body::Body;
use axum::extract::{OriginalUri, Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

const NOT_BUILT: &str = "<!doctype html><title>Pennine</title><p>This pennined was built without its console. \
Build it with <code>npm ci &amp;&amp; npm run build</code> in <code>console/</code>, then build pennined again; \
<code>./start</code> does both.</p>";

/// Serves a file of the console; every other path that a browser asks for is a page of it.
pub async fn serve(State(app): State<App>, uri: OriginalUri, request: Request) -> Response {
    let path = request.uri().path().trim_start_matches('/').to_owned();
    if ["api", "runner"]
        .iter()
        .any(|root| path == *root || path.starts_with(&format!("{root}/")))
    {
        return answer::no_such_path(uri).await.into_response();
    }
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        let failure = answer::wrong_method(request).await;
        let mut response = failure.into_response();
        response
            .headers_mut()
            .insert(header::ALLOW, HeaderValue::from_static("GET, HEAD"));
        return response;
    }
    if let Some(file) = Files::get(&path) {
        let kind = mime_guess::from_path(&path).first_or_octet_stream();
        // Names under assets/ carry a hash of what they hold.
        let keep = if path.starts_with("assets/") {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        let headers = [
            (header::CONTENT_TYPE, kind.as_ref()),
            (header::CACHE_CONTROL, keep),
        ];
        return (headers, Body::from(file.data.into_owned())).into_response();
    }
    if path.starts_with("assets/") {
        return answer::no_such_path(uri).await.into_response();
    }
    let page = match Files::get("index.html") {
        Some(file) => {
            let page = String::from_utf8_lossy(&file.data).into_owned();
            // The page's own addresses are relative to where the service is served.
            page.replace(
                "<head>",
                &format!("<head><base href=\"{}/\">", app.config.base_path()),
            )
        }
        None => NOT_BUILT.to_owned(),
    };
    (
        StatusCode::OK,
        [
            (header::CONTENT_TYPE, "text/html; charset=utf-8"),
            (header::CACHE_CONTROL, "no-cache"),
        ],
        page,
    )
        .into_response()
}
