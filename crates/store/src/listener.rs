//! Listeners: where events are sent, and how far.

use crate::connect::Connection;
use crate::error::Result;
use crate::outbox::Cursor;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::time::Moment;
use uuid::Uuid;

/// A listener.
#[derive(Clone, Debug, QueryableByName)]
pub struct Listener {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub url: String,
    /// The kinds of events that it is sent; none for all.
    #[diesel(sql_type = Array<Text>)]
    pub kinds: Vec<String>,
    /// Locked.
    #[diesel(sql_type = Text)]
    pub secret: String,
    /// The secret before it, locked, which is signed with too until it ends.
    #[diesel(sql_type = Nullable<Text>)]
    pub previous_secret: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub previous_until: Option<Db<Moment>>,
    #[diesel(sql_type = Bool)]
    pub paused: bool,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    #[diesel(sql_type = BigInt)]
    sent_id: i64,
    /// How many events were sent.
    #[diesel(sql_type = BigInt)]
    pub sent: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub sent_at: Option<Db<Moment>>,
    /// How often the one that is next failed.
    #[diesel(sql_type = Integer)]
    pub tries: i32,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub failing_since: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub retry_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub failure: Option<String>,
}

impl Listener {
    /// A new one, which is sent what happens from a place in the feed on.
    pub fn new(id: Uuid, name: &str, by: &str, at: Moment, from: Cursor) -> Listener {
        Listener {
            id,
            name: name.to_owned(),
            url: String::new(),
            kinds: Vec::new(),
            secret: String::new(),
            previous_secret: None,
            previous_until: None,
            paused: false,
            created_at: Db(at),
            created_by: by.to_owned(),
            sent_id: from.0,
            sent: 0,
            sent_at: None,
            tries: 0,
            failing_since: None,
            retry_at: None,
            failure: None,
        }
    }

    /// How far the feed was sent.
    pub fn cursor(&self) -> Cursor {
        Cursor(self.sent_id)
    }
}

/// Every listener, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<Listener>> {
    Ok(sql!("select * from listener order by name")
        .load(connection)
        .await?)
}

/// Adds a listener, or changes what people set of the one with its id: it is retried at once then.
pub async fn write(connection: &mut Connection, one: &Listener, at: Moment) -> Result<()> {
    sql!(
        "with l as (
           insert into listener (id, name, url, kinds, secret, previous_secret, previous_until, paused, created_at, created_by,
                                 sent_id)
           values (:id, :name, :url, :kinds, :secret, :previous_secret, :previous_until, :paused, :created_at, :created_by, :sent_id)
           on conflict (id) do update set url = excluded.url, kinds = excluded.kinds, secret = excluded.secret,
             previous_secret = excluded.previous_secret, previous_until = excluded.previous_until, paused = excluded.paused, tries = 0,
             failing_since = null, retry_at = null, failure = null
           returning id)"
         change ListenerChanged { listener: "id" } at ":at" from "l";
        id: SqlUuid = one.id,
        name: Text = &one.name,
        url: Text = &one.url,
        kinds: Array<Text> = &one.kinds,
        secret: Text = &one.secret,
        previous_secret: Nullable<Text> = one.previous_secret.as_deref(),
        previous_until: Nullable<Timestamptz> = one.previous_until,
        paused: Bool = one.paused,
        created_at: Timestamptz = one.created_at,
        created_by: Text = &one.created_by,
        sent_id: BigInt = one.sent_id,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Removes a listener.
pub async fn remove(connection: &mut Connection, id: Uuid, at: Moment) -> Result<()> {
    sql!(
        "with l as (delete from listener where id = :id returning id)"
         change ListenerChanged { listener: "id" } at ":at" from "l";
        id: SqlUuid = id,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Records how far the feed was sent to a listener, and how many events, unless more is already recorded.
pub async fn note_sent(
    connection: &mut Connection,
    id: Uuid,
    cursor: Cursor,
    events: i64,
    at: Moment,
) -> Result<()> {
    sql!(
        "update listener set sent_id = :sent_id, sent = sent + :events,
                sent_at = case when :events > 0 then :at else sent_at end,
                tries = 0, failing_since = null, retry_at = null, failure = null
         where id = :id and sent_id < :sent_id";
        sent_id: BigInt = cursor.0,
        events: BigInt = events,
        at: Timestamptz = Db(at),
        id: SqlUuid = id,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Notes that an event could not be sent, and when it is retried.
pub async fn note_send_failure(
    connection: &mut Connection,
    id: Uuid,
    message: &str,
    retry_at: Moment,
    at: Moment,
) -> Result<()> {
    sql!(
        "update listener set tries = tries + 1, failure = :message, retry_at = :retry_at,
                failing_since = coalesce(failing_since, :at) where id = :id";
        message: Text = message,
        retry_at: Timestamptz = Db(retry_at),
        at: Timestamptz = Db(at),
        id: SqlUuid = id,
    )
    .execute(connection)
    .await?;
    Ok(())
}
