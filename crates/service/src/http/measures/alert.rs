//! Alerts.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::{JsonBody, Params};
use crate::settings_version::ExpectedVersion;
use crate::views::measures::alert::AlertParams;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use pennine_wire::{Alert, AlertThresholds, Page, Problem, ThresholdsChange};

/// The alerts.
#[utoipa::path(get, operation_id = "list_alerts", path = "/alerts", tag = "now", params(AlertParams), responses((status = 200, body = Page<Alert>)))]
pub async fn list(
    State(app): State<App>,
    who: Principal,
    Params(params): Params<AlertParams>,
) -> Answer<Json<Page<Alert>>> {
    Ok(Json(
        views::measures::alert::list(&app, &who, params).await?,
    ))
}

/// The thresholds of alerts that are not raised at once.
#[utoipa::path(get, operation_id = "show_thresholds", path = "/alerts/thresholds", tag = "now", responses((status = 200, body = AlertThresholds)))]
pub async fn thresholds(State(app): State<App>, _: Principal) -> Answer<Json<AlertThresholds>> {
    Ok(Json(views::measures::alert::thresholds(&app).await?))
}

/// Change the thresholds of alerts.
#[utoipa::path(patch, operation_id = "change_thresholds", path = "/alerts/thresholds", tag = "now", request_body = ThresholdsChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now")),
    responses((status = 200, body = AlertThresholds), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change_thresholds(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    JsonBody(change): JsonBody<ThresholdsChange>,
) -> Answer<Json<AlertThresholds>> {
    Ok(Json(
        operations::measures::alert::change_thresholds(&app, &who, change, &expected).await?,
    ))
}

/// Acknowledge an alert: others see who does, and it is shown less prominently.
#[utoipa::path(post, operation_id = "acknowledge_alert", path = "/alerts/{alert}/acknowledge", tag = "now",
    params(("alert" = String, Path, description = "its short name (a-12)")),
    responses((status = 200, body = Alert), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn acknowledge(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Alert>> {
    Ok(Json(
        operations::measures::alert::acknowledge(&app, &who, &name).await?,
    ))
}
