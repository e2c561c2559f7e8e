//! Actions on many jobs: which jobs they mean is written down when they begin, then the jobs are changed some at a time.

use crate::audit::Actor;
use crate::connect::Connection;
use crate::error::Result;
use crate::job_selection::waits;
use crate::statement::sql;
use crate::types::{Db, Json};
use crate::waiting_line::{LineFilter, matching};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::access::ActorKind;
use pennine_core::id::JobId;
use pennine_core::lifecycle::bulk::BulkState;
use pennine_core::lifecycle::job::JobState;
use pennine_core::time::Moment;
use serde_json::Value;
use uuid::Uuid;

/// An action on many jobs.
#[derive(Clone, Debug, QueryableByName)]
pub struct BulkRow {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    /// What was asked for, as it was sent.
    #[diesel(sql_type = Jsonb)]
    pub request: Json<Value>,
    #[diesel(sql_type = Text)]
    pub state: Db<BulkState>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    #[diesel(sql_type = Text)]
    pub created_by_kind: Db<ActorKind>,
    /// Jobs that it means; none while they are being looked up.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub found: Option<i64>,
    /// Jobs that it has handled, and those of them that it has changed.
    #[diesel(sql_type = BigInt)]
    pub handled: i64,
    #[diesel(sql_type = BigInt)]
    pub changed: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
    /// Why it failed.
    #[diesel(sql_type = Nullable<Text>)]
    pub message: Option<String>,
}

macro_rules! bulk_query {
    ($rest:literal) => {
        concat!(
            "select id, number, request, state, created_at, created_by, created_by_kind, found, handled, changed, ended_at, message
             from bulk_action ",
            $rest
        )
    };
}

/// Begins an action; its jobs are looked up later.
pub async fn begin(
    connection: &mut Connection,
    id: Uuid,
    request: &Value,
    by: &Actor,
    at: Moment,
) -> Result<BulkRow> {
    sql!(
        "insert into bulk_action (id, request, state, created_at, created_by, created_by_kind)
         values (:id, :request, :running, :at, :by, :kind)";
        id: SqlUuid = id,
        request: Jsonb = Json(request.clone()),
        running: Text = Db(BulkState::Running),
        at: Timestamptz = Db(at),
        by: Text = by.name.as_str(),
        kind: Text = Db(by.kind),
    )
    .execute(connection)
    .await?;
    Ok(sql!(bulk_query!("where id = :id"); id: SqlUuid = id)
        .get_result(connection)
        .await?)
}

/// Returns the action with this number.
pub async fn find(connection: &mut Connection, number: i64) -> Result<Option<BulkRow>> {
    let rows: Vec<BulkRow> = sql!(bulk_query!("where number = :number"); number: BigInt = number)
        .load(connection)
        .await?;
    Ok(rows.into_iter().next())
}

/// Returns the latest actions, the newest first.
pub async fn latest(connection: &mut Connection, limit: i64) -> Result<Vec<BulkRow>> {
    Ok(
        sql!(bulk_query!("order by number desc limit :limit"); limit: BigInt = limit)
            .load(connection)
            .await?,
    )
}

/// Returns the actions that are not over, the oldest first.
pub async fn running(connection: &mut Connection) -> Result<Vec<BulkRow>> {
    Ok(
        sql!(bulk_query!("where state = :running order by number"); running: Text = Db(BulkState::Running))
            .load(connection)
            .await?,
    )
}

/// Returns an action's state, and locks it until the transaction ends.
pub async fn lock(connection: &mut Connection, id: Uuid) -> Result<Option<BulkState>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Text)]
        state: Db<BulkState>,
    }
    let rows: Vec<Row> =
        sql!("select state from bulk_action where id = :id for update"; id: SqlUuid = id)
            .load(connection)
            .await?;
    Ok(rows.first().map(|row| row.state.0))
}

/// Writes down which waiting jobs an action means: all of the record, or the jobs that are shown now with a reason.
pub async fn collect_waiting(
    connection: &mut Connection,
    id: Uuid,
    filter: &LineFilter,
) -> Result<()> {
    if !filter.is_by_reason() {
        sql!(
            "with kept as (
               insert into bulk_action_job (action_id, place, job_id)
               select :id, row_number() over (order by j.ready_at, j.number), j.id from job j"
            waits!()
            "  returning 1)
             update bulk_action set found = (select count(*) from kept) where id = :id";
            id: SqlUuid = id,
            place: Nullable<Text> = filter.place.clone(),
            requirement: Nullable<Text> = filter.requirement.clone(),
            pending: Text = Db(JobState::Pending),
        )
        .execute(connection)
        .await?;
        return Ok(());
    }
    sql!(
        "with meant as materialized (
           select w.strand_id, w.place, w.jobs from waiting_line w"
        matching!()
        "),
         waiting as (
           select id, strand_id, ready_at, number,
                  row_number() over (partition by strand_id order by ready_at, number) - 1 as place
           from job where state = :pending and open and current_attempt is null
             and strand_id in (select strand_id from meant)),
         kept as (
           insert into bulk_action_job (action_id, place, job_id)
           select :id, row_number() over (order by w.ready_at, w.number), w.id
           from waiting w join meant m on m.strand_id = w.strand_id and w.place >= m.place and w.place < m.place + m.jobs
           returning 1)
         update bulk_action set found = (select count(*) from kept) where id = :id";
        id: SqlUuid = id,
        place: Nullable<Text> = filter.place.clone(),
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        requirement: Nullable<Text> = filter.requirement.clone(),
        reason: Nullable<Text> = filter.reason.map(Db),
        cause: Nullable<Text> = filter.cause.clone(),
        pending: Text = Db(JobState::Pending),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Writes down which jobs an action means: the ones that ended without success and were not retried.
pub async fn collect_failed(
    connection: &mut Connection,
    id: Uuid,
    filter: &LineFilter,
) -> Result<()> {
    sql!(
        "with kept as (
           insert into bulk_action_job (action_id, place, job_id)
           select :id, row_number() over (order by j.number), j.id
           from job j join place p on p.id = j.project_id join strand s on s.id = j.strand_id
           where j.result <> 'success' and j.retried_as is null
             and (:place::text is null or :place = '' or p.path = :place or starts_with(p.path, :place || '/'))
             and (:requirement::text is null or s.key->>'requirement' = :requirement)
           returning 1)
         update bulk_action set found = (select count(*) from kept) where id = :id";
        id: SqlUuid = id,
        place: Nullable<Text> = filter.place.clone(),
        requirement: Nullable<Text> = filter.requirement.clone(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Takes the next jobs of an action off its list.
pub async fn take(connection: &mut Connection, id: Uuid, most: i64) -> Result<Vec<JobId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        job_id: Db<JobId>,
    }
    let rows: Vec<Row> = sql!(
        "delete from bulk_action_job where action_id = :id and place in (
           select place from bulk_action_job where action_id = :id order by place limit :most) returning job_id";
        id: SqlUuid = id,
        most: BigInt = most,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.job_id.0).collect())
}

/// Counts jobs that were handled, and those of them that were changed.
pub async fn count(
    connection: &mut Connection,
    id: Uuid,
    handled: usize,
    changed: usize,
) -> Result<()> {
    sql!(
        "update bulk_action set handled = handled + :handled, changed = changed + :changed where id = :id";
        id: SqlUuid = id,
        handled: BigInt = i64::try_from(handled).unwrap_or(i64::MAX),
        changed: BigInt = i64::try_from(changed).unwrap_or(i64::MAX),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Ends an action that is in a state; what is left of its list is dropped. Whether it was in that state.
pub async fn end(
    connection: &mut Connection,
    id: Uuid,
    (from, to): (BulkState, BulkState),
    message: Option<&str>,
    at: Moment,
) -> Result<bool> {
    let ended = sql!(
        "with ended as (
           update bulk_action set state = :to, ended_at = :at, message = :message
           where id = :id and state = :from returning id),
         dropped as (delete from bulk_action_job using ended where action_id = ended.id)
         select from ended";
        id: SqlUuid = id,
        from: Text = Db(from),
        to: Text = Db(to),
        message: Nullable<Text> = message,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(ended > 0)
}

/// Forgets actions that ended before a moment.
pub async fn sweep(connection: &mut Connection, before: Moment) -> Result<()> {
    sql!("delete from bulk_action where ended_at < :before"; before: Timestamptz = Db(before))
        .execute(connection)
        .await?;
    Ok(())
}
