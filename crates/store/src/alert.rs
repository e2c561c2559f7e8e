//! Alerts.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{BigInt, Bool, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::alert::{AlertKind, AlertStep, Condition, Open, Thresholds};
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::Moment;
use serde_json::Value;
use uuid::Uuid;

/// Returns the thresholds of alerts that are not raised at once.
pub async fn thresholds(connection: &mut Connection) -> Result<Thresholds> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Jsonb)]
        thresholds: Json<Thresholds>,
    }
    let row: Option<Row> = sql!("select thresholds from alert_thresholds")
        .get_result(connection)
        .await
        .optional()?;
    Ok(row.map_or_else(Thresholds::default, |row| row.thresholds.0))
}

/// Stores the thresholds.
pub async fn set_thresholds(connection: &mut Connection, thresholds: Thresholds) -> Result<()> {
    sql!(
        "insert into alert_thresholds (thresholds) values (:thresholds)
         on conflict (one) do update set thresholds = excluded.thresholds";
        thresholds: Jsonb = Json(thresholds),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// An alert.
#[derive(Clone, Debug, QueryableByName)]
pub struct Alert {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = BigInt)]
    pub number: i64,
    #[diesel(sql_type = Text)]
    pub kind: Db<AlertKind>,
    #[diesel(sql_type = Text)]
    pub subject: String,
    #[diesel(sql_type = Text)]
    pub state: Db<AlertState>,
    #[diesel(sql_type = Text)]
    pub message: String,
    #[diesel(sql_type = Jsonb)]
    pub about: Value,
    #[diesel(sql_type = Timestamptz)]
    pub since: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub raised_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub absent_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub acknowledged_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub acknowledged_by: Option<String>,
}

impl Alert {
    /// The alert as the core sees it.
    pub fn open(&self) -> Open<Uuid> {
        Open {
            id: self.id,
            kind: self.kind.0,
            subject: self.subject.clone(),
            state: self.state.0,
            since: self.since.0,
            absent: self.absent_at.map(|at| at.0),
        }
    }
}

/// Returns the alerts that have not ended, raised or not.
pub async fn open(connection: &mut Connection) -> Result<Vec<Alert>> {
    Ok(
        sql!("select * from alert where ended_at is null order by since, number")
            .load(connection)
            .await?,
    )
}

/// Returns at most `limit` raised alerts before a number: open ones first, then the latest.
pub async fn raised(
    connection: &mut Connection,
    before: Option<i64>,
    limit: i64,
) -> Result<Vec<Alert>> {
    Ok(sql!(
        "select * from alert where raised_at is not null and number < :number order by number desc limit :limit";
        number: BigInt = before.unwrap_or(i64::MAX),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Returns the alert with this number.
pub async fn numbered(connection: &mut Connection, number: i64) -> Result<Option<Alert>> {
    let mut found: Vec<Alert> = sql!(
        "select * from alert where number = :number and raised_at is not null";
        number: BigInt = number,
    )
    .load(connection)
    .await?;
    Ok(found.pop())
}

/// Records a transition of an alert, with a change where listeners are to be notified. `fresh` is the id of a new alert.
pub async fn take(
    connection: &mut Connection,
    step: &AlertStep<Uuid, Value>,
    before: Option<&Alert>,
    fresh: Uuid,
    now: Moment,
) -> Result<()> {
    match step {
        AlertStep::Begin {
            state,
            since,
            condition,
        } => begin(connection, fresh, (*state, *since), condition, now).await,
        AlertStep::Hold {
            id,
            state,
            condition,
        } => hold(connection, *id, *state, condition, before, now).await,
        AlertStep::Miss { id, state, absent } => {
            miss(connection, *id, (*state, *absent), before, now).await
        }
    }
}

async fn begin(
    connection: &mut Connection,
    fresh: Uuid,
    (state, since): (AlertState, Moment),
    condition: &Condition<Value>,
    now: Moment,
) -> Result<()> {
    let raised = state.is_told().then_some(Db(now));
    sql!(
        "with a as (
           insert into alert (id, kind, subject, state, message, about, since, raised_at)
           values (:fresh, :kind, :subject, :state, :message, :about, :since, :raised) on conflict do nothing
           returning *)"
         change AlertRaised {
             alert: "id", kind: "kind", subject: "subject", message: "message", about: "about",
         } at ":now" from "a where raised_at is not null";
        fresh: SqlUuid = fresh,
        kind: Text = Db(condition.kind),
        subject: Text = &condition.subject,
        state: Text = Db(state),
        message: Text = &condition.message,
        about: Jsonb = &condition.about,
        since: Timestamptz = Db(since),
        raised: Nullable<Timestamptz> = raised,
        now: Timestamptz = Db(now),
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn hold(
    connection: &mut Connection,
    id: Uuid,
    state: AlertState,
    condition: &Condition<Value>,
    before: Option<&Alert>,
    now: Moment,
) -> Result<()> {
    let told_before = before.is_some_and(|alert| alert.state.0.is_told());
    let same = before.is_some_and(|alert| {
        alert.state.0 == state
            && alert.message == condition.message
            && alert.about == condition.about
    });
    if same {
        return Ok(());
    }
    let raised = !told_before && state.is_told();
    // Its message may change each time; readers get the present one.
    let changed = told_before && before.is_none_or(|alert| alert.state.0 != state);
    sql!(
        "with a as (
           update alert set state = :state, message = :message, about = :about, absent_at = null,
                  raised_at = coalesce(raised_at, :raised_at)
           where id = :id and ended_at is null returning *),
         raised as ("
         change AlertRaised {
             alert: "id", kind: "kind", subject: "subject", message: "message", about: "about",
         } at ":now" from "a where :raised"
         ")"
         change AlertChanged { alert: "id" } at ":now" from "a where :changed";
        state: Text = Db(state),
        message: Text = &condition.message,
        about: Jsonb = &condition.about,
        raised_at: Nullable<Timestamptz> = state.is_told().then_some(Db(now)),
        id: SqlUuid = id,
        now: Timestamptz = Db(now),
        raised: Bool = raised,
        changed: Bool = changed,
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn miss(
    connection: &mut Connection,
    id: Uuid,
    (state, absent): (AlertState, Moment),
    before: Option<&Alert>,
    now: Moment,
) -> Result<()> {
    if state == AlertState::Ended && before.is_some_and(|alert| !alert.state.0.is_told()) {
        // It was never raised.
        sql!(
            "delete from alert where id = :id and raised_at is null";
            id: SqlUuid = id,
        )
        .execute(connection)
        .await?;
        return Ok(());
    }
    if before.is_some_and(|alert| alert.state.0 == state && alert.absent_at.is_some()) {
        return Ok(());
    }
    let over = state == AlertState::Ended;
    sql!(
        "with a as (
           update alert set state = :state, absent_at = :absent, ended_at = :ended_at
           where id = :id and ended_at is null returning *),
         ended as ("
         change AlertEnded {
             alert: "id", kind: "kind", subject: "subject", message: "message", about: "about",
         } at ":now" from "a where :over"
         ")"
         change AlertChanged { alert: "id" } at ":now" from "a where not :over";
        state: Text = Db(state),
        absent: Timestamptz = Db(absent),
        ended_at: Nullable<Timestamptz> = over.then_some(Db(now)),
        id: SqlUuid = id,
        now: Timestamptz = Db(now),
        over: Bool = over,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Acknowledges an alert. Returns false if it has ended or was acknowledged before.
pub async fn see(connection: &mut Connection, id: Uuid, by: &str, at: Moment) -> Result<bool> {
    let changed = sql!(
        "with a as (
           update alert set acknowledged_at = :at, acknowledged_by = :by
           where id = :id and ended_at is null and acknowledged_at is null returning id)"
         change AlertChanged { alert: "id" } at ":at" from "a";
        at: Timestamptz = Db(at),
        by: Text = by,
        id: SqlUuid = id,
    )
    .execute(connection)
    .await?;
    Ok(changed > 0)
}

/// Deletes the alerts that ended before a moment.
pub async fn sweep(connection: &mut Connection, before: Moment) -> Result<usize> {
    Ok(sql!(
        "delete from alert where ended_at < :before";
        before: Timestamptz = Db(before),
    )
    .execute(connection)
    .await?)
}
