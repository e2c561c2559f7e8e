//! Who changed what, when.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::audit;
use crate::statement::sql;
use crate::types::Db;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use pennine_core::access::ActorKind;
use pennine_core::time::Moment;

/// Who does something, and from where.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Actor {
    pub kind: ActorKind,
    pub name: String,
    /// The address of the request.
    pub address: Option<String>,
    /// The id of the request, as it stands in the service's log and in the answer.
    pub request: Option<String>,
}

impl Actor {
    /// Returns an actor without a request.
    pub fn named(kind: ActorKind, name: impl Into<String>) -> Actor {
        Actor {
            kind,
            name: name.into(),
            address: None,
            request: None,
        }
    }

    /// Returns the service itself.
    pub fn service() -> Actor {
        Actor::named(ActorKind::Service, "pennined")
    }

    /// A permit for what belongs to a place.
    pub fn at(self, place: impl Into<String>) -> Permit {
        Permit {
            actor: self,
            place: place.into(),
        }
    }
}

/// Who may do something at which place: what writing an audit row takes.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Permit {
    pub actor: Actor,
    /// The place's path; empty for the root.
    pub place: String,
}

/// Records an action.
pub async fn write(
    connection: &mut Connection,
    at: Moment,
    by: &Permit,
    what: &str,
    subject: &str,
    detail: serde_json::Value,
) -> Result<()> {
    write_all(connection, at, by, what, &[subject.to_owned()], &detail).await
}

/// Records the same action on several subjects.
pub async fn write_all(
    connection: &mut Connection,
    at: Moment,
    by: &Permit,
    what: &str,
    subjects: &[String],
    detail: &serde_json::Value,
) -> Result<()> {
    let one = |subject: &String| {
        (
            audit::at.eq(Db(at)),
            audit::who.eq(by.actor.name.clone()),
            audit::who_kind.eq(Db(by.actor.kind)),
            audit::address.eq(by.actor.address.clone()),
            audit::request.eq(by.actor.request.clone()),
            audit::place.eq(by.place.clone()),
            audit::what.eq(what),
            audit::subject.eq(subject.clone()),
            audit::detail.eq(detail.clone()),
        )
    };
    let rows: Vec<_> = subjects.iter().map(one).collect();
    diesel::insert_into(audit::table)
        .values(rows)
        .execute(connection)
        .await?;
    Ok(())
}

/// Returns when something was last done to a subject, and by whom.
pub async fn latest(
    connection: &mut Connection,
    what: &str,
    subject: &str,
) -> Result<Option<(Moment, String)>> {
    let row: Option<(Db<Moment>, String)> = audit::table
        .select((audit::at, audit::who))
        .filter(audit::what.eq(what))
        .filter(audit::subject.eq(subject))
        .order(audit::at.desc())
        .first(connection)
        .await
        .optional()?;
    Ok(row.map(|(at, who)| (at.0, who)))
}

/// An action on record.
#[derive(Clone, Debug, QueryableByName)]
pub struct Entry {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub who: String,
    #[diesel(sql_type = Text)]
    pub who_kind: Db<ActorKind>,
    #[diesel(sql_type = Nullable<Text>)]
    pub address: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub request: Option<String>,
    #[diesel(sql_type = Text)]
    pub place: String,
    #[diesel(sql_type = Text)]
    pub what: String,
    #[diesel(sql_type = Text)]
    pub subject: String,
    #[diesel(sql_type = Jsonb)]
    pub detail: serde_json::Value,
}

/// Which actions to read.
#[derive(Clone, Copy, Debug)]
pub struct Filter<'a> {
    pub since: Moment,
    pub until: Moment,
    /// By this name, and by this person's own tokens; by all where none is given.
    pub by: Option<&'a str>,
    /// On a subject with this text in its name; on all where it is empty.
    pub of: &'a str,
    /// Of this kind, or of all kinds that begin with it and a dot; of all where it is empty.
    pub what: &'a str,
    /// At this place or below it.
    pub place: &'a str,
    /// At these places or below them, and those of `own`; at all where none are given.
    pub visible: Option<&'a [String]>,
    /// The reader, whose own actions are visible.
    pub own: (&'a str, ActorKind),
    /// Those before this id.
    pub before: i64,
    /// The most that are returned.
    pub limit: i64,
}

/// Actions on record, the latest first.
pub async fn list(connection: &mut Connection, filter: Filter<'_>) -> Result<Vec<Entry>> {
    Ok(sql!(
        "select id, at, who, who_kind, address, request, place, what, subject, detail from audit
         where at >= :since and at < :until and id < :before
           and (:by::text is null or who = :by or starts_with(who, :by || '/'))
           and (:of = '' or position(lower(:of) in lower(subject)) > 0)
           and (:what = '' or what = :what or starts_with(what, :what || '.'))
           and (:place = '' or place = :place or starts_with(place, :place || '/'))
           and (:visible::text[] is null or is_below_any(place, :visible) or (who = :own and who_kind = :own_kind))
         order by id desc limit :limit";
        since: Timestamptz = Db(filter.since),
        until: Timestamptz = Db(filter.until),
        before: BigInt = filter.before,
        by: Nullable<Text> = filter.by,
        of: Text = filter.of,
        what: Text = filter.what,
        place: Text = filter.place,
        visible: Nullable<Array<Text>> = filter.visible,
        own: Text = filter.own.0,
        own_kind: Text = Db(filter.own.1),
        limit: BigInt = filter.limit,
    )
    .load(connection)
    .await?)
}
