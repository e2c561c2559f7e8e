//! Seats: counted resources that jobs take while they run.

use crate::change::Change;
use crate::connect::Connection;
use crate::decision_input;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::outbox;
use crate::schema::seat;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::dispatch::{SeatReservation, SeatReservations};
use pennine_core::id::AttemptId;
use pennine_core::time::Moment;
use uuid::Uuid;

/// A kind of seat.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = seat)]
pub struct Seat {
    pub id: Uuid,
    pub name: String,
    pub description: String,
    pub count: i32,
    pub created_at: Db<Moment>,
    /// The jobs for which they are kept back, the oldest first.
    pub reserved_for: Json<Vec<SeatReservation>>,
}

/// Adds a kind of seat.
pub async fn insert(connection: &mut Connection, new: &Seat) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(seat::table)
                .values(new)
                .execute(connection)
                .await?;
            let change = Change::SeatAdded {
                seat: new.id,
                name: new.name.clone(),
                count: new.count,
            };
            outbox::write(connection, new.created_at.0, &change).await?;
            decision_input::record(connection, new.created_at.0).await
        })
        .await
}

/// Says how many there are, and what they are.
pub async fn set(connection: &mut Connection, changed: &Seat, at: Moment) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::update(seat::table.find(changed.id))
                .set((
                    seat::description.eq(&changed.description),
                    seat::count.eq(changed.count),
                ))
                .execute(connection)
                .await?;
            let change = Change::SeatChanged {
                seat: changed.id,
                name: changed.name.clone(),
                count: changed.count,
            };
            outbox::write(connection, at, &change).await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// Says which seats are kept back from now on, and for which jobs. False, and nothing said, when another leads by now.
pub async fn set_seat_reservations(
    connection: &mut Connection,
    epoch: Epoch,
    kept: &SeatReservations,
    at: Moment,
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        fenced: i64,
    }
    let names: Vec<String> = kept.keys().cloned().collect();
    let claims: Vec<Json<Vec<SeatReservation>>> =
        kept.values().map(|claims| Json(claims.clone())).collect();
    let row: Row = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
              wanted as (
                select s.id, coalesce(t.reserved_for, '[]') as reserved_for
                from seat s left join unnest(:names, :claims) as t(name, reserved_for) on t.name = s.name),
              kept as (
                update seat s set reserved_for = wanted.reserved_for from wanted, fence
                where s.id = wanted.id and s.reserved_for <> wanted.reserved_for returning s.id, s.name),
              told as ("
                change SeatReserved { seat: "id", name: "name" } at ":at" from "kept"
                ")
         select count(*) as fenced from fence";
        epoch: BigInt = epoch.0,
        names: Array<Text> = names,
        claims: Array<Jsonb> = claims,
        at: Timestamptz = Db(at),
    )
    .get_result(connection)
    .await?;
    Ok(row.fenced == 1)
}

/// Every kind of seat, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<Seat>> {
    Ok(seat::table
        .select(Seat::as_select())
        .order(seat::name)
        .load(connection)
        .await?)
}

/// An attempt that holds seats, or whose seats a person took back while it still runs.
#[derive(Clone, Debug, QueryableByName)]
pub struct Holding {
    #[diesel(sql_type = SqlUuid)]
    pub attempt: Db<AttemptId>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Text)]
    pub runner: String,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = BigInt)]
    pub count: i64,
    #[diesel(sql_type = Timestamptz)]
    pub since: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub back_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub back_by: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub back_reason: Option<String>,
}

/// Who holds which seats.
pub async fn holdings(connection: &mut Connection) -> Result<Vec<Holding>> {
    Ok(sql!(
        "select a.id as attempt, j.number as job_number, p.path as project, r.name as runner, s.key as name,
                s.value::bigint as count, a.assigned_at as since, a.seats_back_at as back_at, a.seats_back_by as back_by,
                a.seats_back_reason as back_reason
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         join runner r on r.id = a.runner_id cross join lateral jsonb_each_text(j.seats) s
         where a.open order by a.assigned_at"
    )
    .load(connection)
    .await?)
}

/// Takes the seats of an attempt back; it keeps its slot and goes on. False when it is over, or they were taken back
/// before.
pub async fn take_back(
    connection: &mut Connection,
    attempt: AttemptId,
    by: &str,
    reason: &str,
    at: Moment,
) -> Result<bool> {
    let changed = sql!(
        "with a as (
           update attempt set seats_back_at = :at, seats_back_by = :by, seats_back_reason = :reason
           where id = :attempt and open and seats_back_at is null returning id, job_id)"
         change AttemptSeatsTakenBack { attempt: "id", job: "job_id", by: ":by::text", reason: ":reason::text" } at ":at" from "a";
        at: Timestamptz = Db(at),
        by: Text = by,
        reason: Text = reason,
        attempt: SqlUuid = Db(attempt),
    )
    .execute(connection)
    .await?;
    Ok(changed > 0)
}
