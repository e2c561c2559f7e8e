//! Listeners: who else is told.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
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
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Listener>>> {
    Ok(Json(views::measures::listener::list(&app).await?))
}

/// Add a listener: it is sent each alert from now on, as signed events. Its secret is shown this once.
#[utoipa::path(post, operation_id = "add_listener", path = "/listeners", tag = "now", request_body = NewListener,
    responses((status = 201, body = MadeListener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewListener>,
) -> Answer<(StatusCode, Json<MadeListener>)> {
    Ok(created(
        operations::measures::listener::add(&app, &who, new).await?,
    ))
}

/// Change where a listener is, what it hears of, or whether it is paused. It is tried again at once.
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

/// Give a listener another secret, which is shown this once. Events are signed with the one before too, for a day.
#[utoipa::path(post, operation_id = "renew_listener", path = "/listeners/{listener}/renew", tag = "now",
    params(("listener" = String, Path, description = "its name")),
    responses((status = 200, body = MadeListener), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn renew(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<MadeListener>> {
    Ok(Json(
        operations::measures::listener::renew(&app, &who, &name).await?,
    ))
}

/// Send a listener an event to try it, now, and say what came of it.
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
