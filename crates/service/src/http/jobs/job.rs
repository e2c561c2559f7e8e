//! Jobs.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views::jobs::comparison::ComparisonParams;
use crate::views::jobs::job::ListParams;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use pennine_wire::{Comparison, Job, JobLine, JobSizing, Page, Problem};

/// Jobs, newest first.
#[utoipa::path(get, operation_id = "list_jobs", path = "/jobs", tag = "jobs", params(ListParams),
    responses((status = 200, body = Page<JobLine>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<ListParams>,
) -> Answer<(HeaderMap, Json<Page<JobLine>>)> {
    let link = |next: &str| next_link(&app, &params, next);
    let page = views::jobs::job::list(&app, &who, &params).await?;
    let mut headers = HeaderMap::new();
    headers.extend(page.next.as_deref().and_then(link));
    Ok((headers, Json(page)))
}

/// The `Link` header to the next page (RFC 8288).
fn next_link(app: &App, params: &ListParams, next: &str) -> Option<(HeaderName, HeaderValue)> {
    let mut query = form_urlencoded::Serializer::new(String::new());
    query.append_pair("limit", &params.limit().to_string());
    query.append_pair("after", next);
    let given = [
        ("state", &params.state),
        ("project", &params.project),
        ("team", &params.team),
        ("search", &params.search),
    ];
    for (name, value) in given {
        if let Some(value) = value {
            query.append_pair(name, value);
        }
    }
    let query = query.finish();
    let link = format!("<{}/api/v1/jobs?{query}>; rel=\"next\"", app.public_url);
    Some((header::LINK, HeaderValue::from_str(&link).ok()?))
}

/// One job, by id or short name.
#[utoipa::path(get, operation_id = "show_job", path = "/jobs/{job}", tag = "jobs",
    params(("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = Job), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Job>> {
    Ok(Json(
        views::jobs::failure_hint::show(&app, &who, &text).await?,
    ))
}

/// Compare a job that is done with another one, or with the median of earlier ones like it: how long each part of both took.
#[utoipa::path(get, operation_id = "compare_job", path = "/jobs/{job}/comparison", tag = "jobs",
    params(ComparisonParams, ("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = Comparison), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn compare(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
    Params(params): Params<ComparisonParams>,
) -> Answer<Json<Comparison>> {
    let compared = views::jobs::comparison::show(&app, &who, &text, params);
    Ok(Json(compared.await?))
}

/// What the last attempts of a job and of earlier ones like it used of their machines, and what follows from that for the size of the
/// machine and the time limit.
#[utoipa::path(get, operation_id = "size_job", path = "/jobs/{job}/sizing", tag = "jobs",
    params(("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = JobSizing), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn size(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<JobSizing>> {
    Ok(Json(views::jobs::sizing::show(&app, &who, &text).await?))
}

/// Cancel a job: at once when it waits, by asking its runner otherwise. Cancelling twice does no harm.
#[utoipa::path(post, operation_id = "cancel_job", path = "/jobs/{job}/cancel", tag = "jobs",
    params(("job" = String, Path, description = "its id or short name (j-4812)")),
    responses((status = 200, body = Job), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn cancel(
    State(app): State<App>,
    who: Principal,
    Path(text): Path<String>,
) -> Answer<Json<Job>> {
    Ok(Json(
        operations::jobs::job::cancel(&app, &who, &text).await?,
    ))
}
