//! Alerts: what somebody should be told of.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::{Db, Json};
use diesel::sql_types::{BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::alert::{AlertKind, Open, Step, Thresholds};
use pennine_core::lifecycle::alert::AlertState;
use pennine_core::time::Moment;
use serde_json::{Value, json};
use uuid::Uuid;

/// From when on people are told of what is not told at once.
pub async fn thresholds(connection: &mut Connection) -> Result<Thresholds> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Jsonb)]
        thresholds: Json<Thresholds>,
    }
    let row: Option<Row> = statement("select thresholds from alert_thresholds")
        .get_result(connection)
        .await
        .optional()?;
    Ok(row.map_or_else(Thresholds::default, |row| row.thresholds.0))
}

/// Says from when on people are told.
pub async fn set_thresholds(connection: &mut Connection, thresholds: Thresholds) -> Result<()> {
    statement(
        "insert into alert_thresholds (thresholds) values ($1)
         on conflict (one) do update set thresholds = excluded.thresholds",
    )
    .bind::<Jsonb, _>(Json(thresholds))
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
    pub said: String,
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
    pub seen_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub seen_by: Option<String>,
}

impl Alert {
    /// As the core looks at it.
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

/// Those that are not over, raised or not.
pub async fn open(connection: &mut Connection) -> Result<Vec<Alert>> {
    Ok(
        statement("select * from alert where ended_at is null order by since, number")
            .load(connection)
            .await?,
    )
}

/// Those that people were told of: what is not over first, then the latest; before a number, at most so many.
pub async fn told(
    connection: &mut Connection,
    before: Option<i64>,
    limit: i64,
) -> Result<Vec<Alert>> {
    Ok(statement(
        "select * from alert where raised_at is not null and number < $1 order by number desc limit $2",
    )
    .bind::<BigInt, _>(before.unwrap_or(i64::MAX))
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?)
}

/// The alert with this number.
pub async fn numbered(connection: &mut Connection, number: i64) -> Result<Option<Alert>> {
    let mut found: Vec<Alert> =
        statement("select * from alert where number = $1 and raised_at is not null")
            .bind::<BigInt, _>(number)
            .load(connection)
            .await?;
    Ok(found.pop())
}

/// Records what becomes of an alert, and tells the feed where people are to hear of it. `fresh` is the id of a new one.
pub async fn take(
    connection: &mut Connection,
    step: &Step<Uuid, Value>,
    before: Option<&Alert>,
    fresh: Uuid,
    now: Moment,
) -> Result<()> {
    match step {
        Step::Begin {
            state,
            since,
            condition,
        } => {
            let raised = state.is_told().then_some(Db(now));
            statement(
                "with a as (
                   insert into alert (id, kind, subject, state, said, about, since, raised_at)
                   values ($1, $2, $3, $4, $5, $6, $7, $8) on conflict do nothing returning id, raised_at)
                 insert into outbox (at, kind, subject, body)
                 select $9, 'alert.raised', id, $10 from a where raised_at is not null",
            )
            .bind::<SqlUuid, _>(fresh)
            .bind::<Text, _>(Db(condition.kind))
            .bind::<Text, _>(&condition.subject)
            .bind::<Text, _>(Db(*state))
            .bind::<Text, _>(&condition.said)
            .bind::<Jsonb, _>(&condition.about)
            .bind::<Timestamptz, _>(Db(*since))
            .bind::<Nullable<Timestamptz>, _>(raised)
            .bind::<Timestamptz, _>(Db(now))
            .bind::<Jsonb, _>(body(condition.kind, &condition.subject, &condition.said, &condition.about))
            .execute(connection)
            .await?;
        }
        Step::Hold {
            id,
            state,
            condition,
        } => {
            let told_before = before.is_some_and(|alert| alert.state.0.is_told());
            let same = before.is_some_and(|alert| {
                alert.state.0 == *state
                    && alert.said == condition.said
                    && alert.about == condition.about
            });
            if same {
                return Ok(());
            }
            let event = match (told_before, state.is_told()) {
                (false, true) => Some("alert.raised"),
                (true, _) if before.is_none_or(|alert| alert.state.0 != *state) => {
                    Some("alert.changed")
                }
                // What it says may change each time; those who look at it read it then.
                _ => None,
            };
            statement(
                "with a as (
                   update alert set state = $1, said = $2, about = $3, absent_at = null,
                          raised_at = coalesce(raised_at, $4)
                   where id = $5 and ended_at is null returning id)
                 insert into outbox (at, kind, subject, body)
                 select $6, $7, id, $8 from a where $9::text is not null",
            )
            .bind::<Text, _>(Db(*state))
            .bind::<Text, _>(&condition.said)
            .bind::<Jsonb, _>(&condition.about)
            .bind::<Nullable<Timestamptz>, _>(state.is_told().then_some(Db(now)))
            .bind::<SqlUuid, _>(*id)
            .bind::<Timestamptz, _>(Db(now))
            .bind::<Text, _>(event.unwrap_or_default())
            .bind::<Jsonb, _>(body(
                condition.kind,
                &condition.subject,
                &condition.said,
                &condition.about,
            ))
            .bind::<Nullable<Text>, _>(event)
            .execute(connection)
            .await?;
        }
        Step::Miss { id, state, absent } => {
            if *state == AlertState::Over && before.is_some_and(|alert| !alert.state.0.is_told()) {
                // Nobody has heard of it.
                statement("delete from alert where id = $1 and raised_at is null")
                    .bind::<SqlUuid, _>(*id)
                    .execute(connection)
                    .await?;
                return Ok(());
            }
            if before.is_some_and(|alert| alert.state.0 == *state && alert.absent_at.is_some()) {
                return Ok(());
            }
            let over = *state == AlertState::Over;
            statement(
                "with a as (
                   update alert set state = $1, absent_at = $2, ended_at = $3
                   where id = $4 and ended_at is null returning id, kind, subject, said, about)
                 insert into outbox (at, kind, subject, body)
                 select $5, $6, id, jsonb_build_object('kind', kind, 'subject', subject, 'said', said, 'about', about)
                 from a",
            )
            .bind::<Text, _>(Db(*state))
            .bind::<Timestamptz, _>(Db(*absent))
            .bind::<Nullable<Timestamptz>, _>(over.then_some(Db(now)))
            .bind::<SqlUuid, _>(*id)
            .bind::<Timestamptz, _>(Db(now))
            .bind::<Text, _>(if over { "alert.ended" } else { "alert.changed" })
            .execute(connection)
            .await?;
        }
    }
    Ok(())
}

fn body(kind: AlertKind, subject: &str, said: &str, about: &Value) -> Value {
    json!({"kind": kind, "subject": subject, "said": said, "about": about})
}

/// Notes that somebody looks at an alert. False when it is over, or somebody did before.
pub async fn see(connection: &mut Connection, id: Uuid, by: &str, at: Moment) -> Result<bool> {
    let changed = statement(
        "with a as (
           update alert set seen_at = $1, seen_by = $2
           where id = $3 and ended_at is null and seen_at is null returning id)
         insert into outbox (at, kind, subject, body)
         select $4, 'alert.changed', id, jsonb_build_object('seen_by', $5::text) from a",
    )
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .bind::<SqlUuid, _>(id)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<Text, _>(by)
    .execute(connection)
    .await?;
    Ok(changed > 0)
}

/// Forgets those that were over before a moment.
pub async fn sweep(connection: &mut Connection, before: Moment) -> Result<usize> {
    Ok(statement("delete from alert where ended_at < $1")
        .bind::<Timestamptz, _>(Db(before))
        .execute(connection)
        .await?)
}
