//! Listeners.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{
    Listener, ListenerChange, MadeListener, NewListener, Page, Problem, TriedListener,
};

/// The listeners.
#[utoipa::path(get, operation_id = "list_listeners", path = "/listeners", tag = "now", responses((status = 200, body = Page<Listener>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Listener>>> {
    Ok(Json(views::measures::listener::list(&app, &who).await?))
}

/// Add a listener: it receives each alert from now on as a signed event. Its secret is shown only in this answer.
#[utoipa::path(post, operation_id = "add_listener", path = "/listeners", tag = "now", request_body = NewListener,
    responses((status = 201, body = MadeListener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewListener>,
) -> Answer<(StatusCode, HoldsSecret, Json<MadeListener>)> {
    Ok(created_secret(
        operations::measures::listener::add(&app, &who, new).await?,
    ))
}

/// Change a listener's address, its kinds of alerts, or whether it is paused. Delivery is retried at once.
#[utoipa::path(patch, operation_id = "change_listener", path = "/listeners/{listener}", tag = "now", request_body = ListenerChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("listener" = String, Path, description = "its name")),
    responses((status = 200, body = Listener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    expected: ExpectedVersion,
    JsonBody(change): JsonBody<ListenerChange>,
) -> Answer<Json<Listener>> {
    Ok(Json(
        operations::measures::listener::change(&app, &who, &name, change, &expected).await?,
    ))
}

/// Remove a listener.
#[utoipa::path(delete, operation_id = "remove_listener", path = "/listeners/{listener}", tag = "now",
    params(("listener" = String, Path, description = "its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<StatusCode> {
    operations::measures::listener::remove(&app, &who, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Renew a listener's secret, which is shown only in this answer. For a day, events are signed with the previous secret as well.
#[utoipa::path(post, operation_id = "renew_listener", path = "/listeners/{listener}/renew", tag = "now",
    params(("listener" = String, Path, description = "its name")),
    responses((status = 200, body = MadeListener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn renew(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<(HoldsSecret, Json<MadeListener>)> {
    let renewed = operations::measures::listener::renew(&app, &who, &name).await?;
    Ok((HoldsSecret, Json(renewed)))
}

/// Send a listener a test event, and return the result.
#[utoipa::path(post, operation_id = "try_listener", path = "/listeners/{listener}/try", tag = "now",
    params(("listener" = String, Path, description = "its name")),
    responses((status = 200, body = TriedListener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn try_out(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<TriedListener>> {
    Ok(Json(
        operations::measures::listener::try_out(&app, &who, &name).await?,
    ))
}
