//! The queue by reason, and the picture of it that the answer line is made from.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views;
use crate::views::jobs::queue::QueueParams;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use pennine_wire::{Problem, Queue};

/// The waiting jobs, grouped by why they wait and by what is missing: the first strands of each group, or, where a reason is
/// given, its strands page by page.
#[utoipa::path(get, operation_id = "queue", path = "/queue", tag = "jobs", params(QueueParams),
    responses((status = 200, body = Queue), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn queue(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<QueueParams>,
) -> Answer<(HeaderMap, Json<Queue>)> {
    let queue = views::jobs::queue::queue(&app, &who, &params).await?;
    let link = |next: &str| next_link(&app, &params, next);
    let mut headers = HeaderMap::new();
    headers.extend(queue.next.as_deref().and_then(link));
    Ok((headers, Json(queue)))
}

/// The `Link` header to the next page (RFC 8288).
fn next_link(app: &App, params: &QueueParams, next: &str) -> Option<(HeaderName, HeaderValue)> {
    let mut query = form_urlencoded::Serializer::new(String::new());
    query.append_pair("limit", &params.limit().to_string());
    query.append_pair("after", next);
    let given = [
        ("reason", &params.reason),
        ("cause", &params.cause),
        ("project", &params.project),
        ("team", &params.team),
        ("where", &params.requirement),
    ];
    for (name, value) in given {
        if let Some(value) = value {
            query.append_pair(name, value);
        }
    }
    let query = query.finish();
    let link = format!("<{}/api/v1/queue?{query}>; rel=\"next\"", app.public_url);
    Some((header::LINK, HeaderValue::from_str(&link).ok()?))
}
