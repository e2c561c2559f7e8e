//! Seats: counted resources that jobs take while they run.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::outbox;
use crate::schema::seat;
use crate::statement::statement;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::dispatch::{Claim, KeptBack};
use pennine_core::id::AttemptId;
use pennine_core::time::Moment;
use serde_json::json;
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
    pub kept_for: Json<Vec<Claim>>,
}

/// Adds a kind of seat.
pub async fn insert(connection: &mut Connection, new: &Seat) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(seat::table)
                .values(new)
                .execute(connection)
                .await?;
            let body = json!({"name": new.name, "count": new.count});
            outbox::write(connection, new.created_at.0, "seat.made", new.id, body).await
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
            let body = json!({"name": changed.name, "count": changed.count});
            outbox::write(connection, at, "seat.changed", changed.id, body).await
        })
        .await
}

/// Says which seats are kept back from now on, and for which jobs. False, and nothing said, when another leads by now.
pub async fn keep_back(
    connection: &mut Connection,
    epoch: Epoch,
    kept: &KeptBack,
    at: Moment,
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        fenced: i64,
    }
    let names: Vec<String> = kept.keys().cloned().collect();
    let claims: Vec<Json<Vec<Claim>>> = kept.values().map(|claims| Json(claims.clone())).collect();
    let row: Row = statement(
        "with fence as materialized (select epoch from leadership where epoch = $1 for share),
              turn as (
                select s.id, coalesce(t.kept_for, '[]') as kept_for
                from seat s left join unnest($2, $3) as t(name, kept_for) on t.name = s.name),
              kept as (
                update seat s set kept_for = turn.kept_for from turn, fence
                where s.id = turn.id and s.kept_for <> turn.kept_for returning s.id, s.name),
              told as (
                insert into outbox (at, kind, subject, body)
                select $4, 'seat.kept', id, jsonb_build_object('name', name) from kept)
         select count(*) as fenced from fence",
    )
    .bind::<BigInt, _>(epoch.0)
    .bind::<Array<Text>, _>(names)
    .bind::<Array<Jsonb>, _>(claims)
    .bind::<Timestamptz, _>(Db(at))
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
    pub back_why: Option<String>,
}

/// Who holds which seats.
pub async fn holdings(connection: &mut Connection) -> Result<Vec<Holding>> {
    Ok(statement(
        "select a.id as attempt, j.number as job_number, p.path as project, r.name as runner, s.key as name,
                s.value::bigint as count, a.assigned_at as since, a.seats_back_at as back_at, a.seats_back_by as back_by,
                a.seats_back_why as back_why
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         join runner r on r.id = a.runner_id cross join lateral jsonb_each_text(j.seats) s
         where a.open order by a.assigned_at",
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
    why: &str,
    at: Moment,
) -> Result<bool> {
    let changed = statement(
        "with a as (
           update attempt set seats_back_at = $1, seats_back_by = $2, seats_back_why = $3
           where id = $4 and open and seats_back_at is null returning id, job_id)
         insert into outbox (at, kind, subject, body)
         select $5, 'attempt.seats-back', id, jsonb_build_object('job', job_id, 'by', $6::text, 'why', $7::text) from a",
    )
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .bind::<Text, _>(why)
    .bind::<SqlUuid, _>(Db(attempt))
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .bind::<Text, _>(why)
    .execute(connection)
    .await?;
    Ok(changed > 0)
}
