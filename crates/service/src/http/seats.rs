//! Seats.

use super::answer::{Answer, created};
use super::auth::{Principal, Role};
use super::body::JsonBody;
use super::jobs;
use super::yard::Yard;
use crate::app::App;
use crate::error::ServiceError;
use crate::validation::{check_name, check_why};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::id::Short;
use pennine_store::{Connection, Db, audit, seat, types};
use pennine_wire::{
    KeptSeats, NewSeat, Page, Problem, Seat, SeatChange, SeatHolder, TakeBack, TakenBack,
};
use serde_json::json;

/// The most seats of one name.
const MOST: u32 = 100_000;

fn shown(seat: &seat::Seat, yard: &Yard) -> Seat {
    let holdings = yard.holdings.iter();
    Seat {
        name: seat.name.clone(),
        description: seat.description.clone(),
        count: seat.count.max(0).unsigned_abs(),
        taken: yard.taken(&seat.name),
        holders: holdings
            .filter(|holding| holding.name == seat.name)
            .map(|holding| SeatHolder {
                job: Short::Job.name(holding.job_number),
                project: holding.project.clone(),
                runner: holding.runner.clone(),
                count: u32::try_from(holding.count).unwrap_or(0),
                since: holding.since.0,
                taken_back: holding.back_at.map(|at| TakenBack {
                    at: at.0,
                    by: holding.back_by.clone().unwrap_or_default(),
                    why: holding.back_why.clone().unwrap_or_default(),
                }),
            })
            .collect(),
        kept_back: seat
            .kept_for
            .0
            .iter()
            .map(|claim| KeptSeats {
                job: claim.name(),
                count: claim.count,
            })
            .collect(),
    }
}

async fn one(app: &App, connection: &mut Connection, name: &str) -> Answer<Seat> {
    let yard = Yard::read(connection, app.clock.now()).await?;
    let found = yard.seats.iter().find(|seat| seat.name == name);
    found
        .map(|seat| shown(seat, &yard))
        .ok_or_else(|| ServiceError::unknown("seat", name))
}

fn check_count(count: u32) -> Answer<i32> {
    i32::try_from(count)
        .ok()
        .filter(|_| count <= MOST)
        .ok_or_else(|| {
            ServiceError::invalid("count", format!("there are 0 to {MOST} seats of a name"))
        })
}

fn check_description(text: &str) -> Answer<()> {
    match text.len() {
        0..=500 => Ok(()),
        _ => Err(ServiceError::invalid(
            "description",
            "a description has at most 500 bytes",
        )),
    }
}

/// The seats, and who has them.
#[utoipa::path(get, operation_id = "list_seats", path = "/seats", tag = "yard", responses((status = 200, body = Page<Seat>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Seat>>> {
    let mut connection = app.store.get().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let items = yard.seats.iter().map(|seat| shown(seat, &yard)).collect();
    Ok(Json(Page { items, next: None }))
}

/// Add a kind of seat.
#[utoipa::path(post, operation_id = "add_seat", path = "/seats", tag = "yard", request_body = NewSeat,
    responses((status = 201, body = Seat), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewSeat>,
) -> Answer<(StatusCode, Json<Seat>)> {
    who.require(Role::Operator)?;
    check_name("name", &new.name)?;
    check_description(&new.description)?;
    let row = seat::Seat {
        id: app.fresh_id(),
        name: new.name.clone(),
        description: new.description,
        count: check_count(new.count)?,
        created_at: Db(app.clock.now()),
        kept_for: types::Json(Vec::new()),
    };
    let mut connection = app.store.get().await?;
    match seat::insert(&mut connection, &row).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let said = format!("there is a seat {:?} already", new.name);
            return Err(ServiceError::taken(said));
        }
        other => other?,
    }
    let detail = json!({"count": row.count});
    let at = row.created_at.0;
    audit::write(
        &mut connection,
        at,
        &who.name,
        "seat.add",
        &row.name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(created(one(&app, &mut connection, &new.name).await?))
}

/// Change how many seats there are. Lowered under use they drain: nothing is ended.
#[utoipa::path(patch, operation_id = "change_seat", path = "/seats/{seat}", tag = "yard", request_body = SeatChange,
    params(("seat" = String, Path, description = "its name")),
    responses((status = 200, body = Seat), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<SeatChange>,
) -> Answer<Json<Seat>> {
    who.require(Role::Operator)?;
    let mut connection = app.store.get().await?;
    let rows = seat::list(&mut connection).await?;
    let mut row = rows
        .into_iter()
        .find(|seat| seat.name == name)
        .ok_or_else(|| ServiceError::unknown("seat", &name))?;
    if let Some(count) = change.count {
        row.count = check_count(count)?;
    }
    if let Some(description) = &change.description {
        check_description(description)?;
        row.description.clone_from(description);
    }
    let at = app.clock.now();
    seat::set(&mut connection, &row, at).await?;
    let detail = json!({"count": row.count});
    audit::write(&mut connection, at, &who.name, "seat.change", &name, detail).await?;
    app.feed.kick();
    Ok(Json(one(&app, &mut connection, &name).await?))
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
    who.require(Role::Operator)?;
    check_why(&from.why)?;
    let mut connection = app.store.get().await?;
    let job = jobs::find(&mut connection, &from.job).await?;
    let holder = Yard::read(&mut connection, app.clock.now())
        .await?
        .holdings
        .into_iter()
        .find(|holding| holding.job_number == job.number && holding.name == name);
    let at = app.clock.now();
    let taken = match &holder {
        Some(holder) => {
            seat::take_back(&mut connection, holder.attempt.0, &who.name, &from.why, at).await?
        }
        None => false,
    };
    if !taken {
        let said = format!("{} holds no {name} seat now", Short::Job.name(job.number));
        return Err(ServiceError::conflict(
            "wrong-state",
            "There is nothing to take back",
            said,
        ));
    }
    let detail = json!({"job": Short::Job.name(job.number), "why": from.why});
    audit::write(
        &mut connection,
        at,
        &who.name,
        "seat.take-back",
        &name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(Json(one(&app, &mut connection, &name).await?))
}
