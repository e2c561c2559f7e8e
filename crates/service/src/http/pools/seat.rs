//! Seats.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{NewSeat, Page, Problem, Seat, SeatChange, TakeBack};

/// The seats, and who has them.
#[utoipa::path(get, operation_id = "list_seats", path = "/seats", tag = "yard", responses((status = 200, body = Page<Seat>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Seat>>> {
    Ok(Json(views::pools::seat::list(&app, &who).await?))
}

/// Add a kind of seat.
#[utoipa::path(post, operation_id = "add_seat", path = "/seats", tag = "yard", request_body = NewSeat,
    responses((status = 201, body = Seat), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewSeat>,
) -> Answer<(StatusCode, Json<Seat>)> {
    Ok(created(
        operations::pools::seat::add(&app, &who, new).await?,
    ))
}

/// Change how many seats there are. Lowered under use they drain: nothing is ended.
#[utoipa::path(patch, operation_id = "change_seat", path = "/seats/{seat}", tag = "yard", request_body = SeatChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("seat" = String, Path, description = "its name")),
    responses((status = 200, body = Seat), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<SeatChange>,
) -> Answer<Json<Seat>> {
    Ok(Json(
        operations::pools::seat::change(&app, &who, &name, change, &expected).await?,
    ))
}

/// Take the seats of a stuck job back. It keeps its slot and goes on; who did it and why is kept.
#[utoipa::path(post, operation_id = "take_seat_back", path = "/seats/{seat}/take-back", tag = "yard", request_body = TakeBack,
    params(("seat" = String, Path, description = "its name")),
    responses((status = 200, body = Seat), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn take_back(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(from): JsonBody<TakeBack>,
) -> Answer<Json<Seat>> {
    Ok(Json(
        operations::pools::seat::take_back(&app, &who, &name, from).await?,
    ))
}
