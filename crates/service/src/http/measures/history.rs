//! History as CSV, out and in: jobs that are over, one in each line, with the columns that docs/measures.md describes.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, Failure};
use crate::http::body::Params;
use crate::http::upload;
use crate::operations::measures::history::MOST_BYTES;
use crate::views::measures::history::TimeRange;
use crate::{operations, views};
use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::header;
use axum::response::IntoResponse;
use futures::TryStreamExt;
use pennine_core::access::Action;
use pennine_wire::{ImportSummary, Problem};

/// Every attempt that is over, and every wait that led to none, in the order in which they became ready, as CSV.
/// Needs a role at the root.
#[utoipa::path(get, operation_id = "export_history", path = "/history", tag = "trends", params(TimeRange),
    responses((status = 200, body = String, content_type = "text/csv"), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn export(
    State(app): State<App>,
    who: Principal,
    Params(when): Params<TimeRange>,
) -> Answer<impl IntoResponse> {
    who.require(Action::View, "")?;
    let lines = views::measures::history::export(&app, when);
    let body = Body::from_stream(lines.map_ok(Bytes::from));
    Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8")], body))
}

/// Import jobs that are over, from a CSV file: all of them, or none where a line cannot be read.
#[utoipa::path(post, operation_id = "import_history", path = "/history", tag = "trends",
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = ImportSummary), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn import(
    State(app): State<App>,
    who: Principal,
    request: Request,
) -> Result<Json<ImportSummary>, Failure> {
    operations::measures::history::check_import(&who)?;
    let sent = upload::read(&app, request, MOST_BYTES).await?;
    let imported = operations::measures::history::import(&app, &who, &sent.bytes).await?;
    Ok(Json(imported))
}
