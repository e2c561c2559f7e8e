//! The queue by reason, and the picture of it that the answer line is made from.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::views;
use axum::Json;
use axum::extract::State;
use pennine_wire::Queue;

/// The waiting jobs, grouped by why they wait.
#[utoipa::path(get, operation_id = "queue", path = "/queue", tag = "jobs", responses((status = 200, body = Queue)))]
pub async fn queue(State(app): State<App>, _: Principal) -> Answer<Json<Queue>> {
    Ok(Json(views::jobs::queue::queue(&app).await?))
}
