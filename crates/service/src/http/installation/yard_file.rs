//! The applied yard file, whose entries are marked as managed.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::{operations, views};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_wire::{AppliedYardFile, Problem, YardFile};

/// The yard file that was applied last; null where none ever was.
#[utoipa::path(get, operation_id = "show_yard_file", path = "/yard-file", tag = "yard", responses((status = 200, body = Option<YardFile>)))]
pub async fn show(State(app): State<App>, who: Principal) -> Answer<Json<Option<YardFile>>> {
    Ok(Json(
        views::installation::yard_file::show(&app, &who).await?,
    ))
}

/// Say that a yard file was applied, and what stands in it: that is marked from then on.
#[utoipa::path(put, operation_id = "note_yard_file", path = "/yard-file", tag = "yard", request_body = AppliedYardFile,
    responses((status = 200, body = YardFile), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn note(
    State(app): State<App>,
    who: Principal,
    JsonBody(applied): JsonBody<AppliedYardFile>,
) -> Answer<Json<YardFile>> {
    Ok(Json(
        operations::installation::yard_file::note(&app, &who, applied).await?,
    ))
}

/// Forget the yard file: nothing is marked any more, and everything stays as it is.
#[utoipa::path(delete, operation_id = "forget_yard_file", path = "/yard-file", tag = "yard",
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn forget(State(app): State<App>, who: Principal) -> Answer<StatusCode> {
    operations::installation::yard_file::forget(&app, &who).await?;
    Ok(StatusCode::NO_CONTENT)
}
