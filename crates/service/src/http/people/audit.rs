//! The audit log.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::Params;
use crate::views::people::audit::{self, AuditParams};
use axum::Json;
use axum::extract::State;
use pennine_wire::{AuditEntry, Page, Problem};

/// Who did what: changes, sign-ins and refusals at the places where you are admin, and your own, the latest first.
#[utoipa::path(get, operation_id = "list_audit", path = "/audit", tag = "access", params(AuditParams),
    responses((status = 200, body = Page<AuditEntry>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(asked): Params<AuditParams>,
) -> Answer<Json<Page<AuditEntry>>> {
    Ok(Json(audit::list(&app, &who, asked).await?))
}
