//! The tree of teams and projects.

use crate::change::Change;
use crate::connect::Connection;
use crate::decision_input;
use crate::error::Result;
use crate::outbox;
use crate::schema::place;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Text, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use pennine_core::dispatch::PlaceView;
use pennine_core::id::{PlaceId, PoolId, RunnerId};
use pennine_core::time::{Micros, Moment};
use serde::Serialize;
use uuid::Uuid;

/// A place: the root, a team or a project.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = place)]
pub struct Place {
    pub id: Db<PlaceId>,
    pub kind: String,
    pub name: String,
    pub path: String,
    pub parent_id: Option<Uuid>,
    pub created_at: Db<Moment>,
    pub weight: i32,
    pub slot_limit: Option<i32>,
    pub give_up_us: Option<Db<Micros>>,
    /// The only audiences for which its jobs may get identity tokens; any where there is none.
    pub audiences: Vec<String>,
}

impl Place {
    /// The place as dispatch sees it.
    pub fn view(&self) -> PlaceView {
        PlaceView {
            path: self.path.clone(),
            weight: self.weight.max(1).unsigned_abs(),
            limit: self.slot_limit.map(|limit| limit.max(0).unsigned_abs()),
        }
    }
}

/// Adds a place.
pub async fn insert(connection: &mut Connection, new: &Place) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(place::table)
                .values(new)
                .execute(connection)
                .await?;
            let change = Change::PlaceAdded {
                place: new.id.0,
                path: new.path.clone(),
            };
            outbox::write(connection, new.created_at.0, &change).await?;
            decision_input::record(connection, new.created_at.0).await
        })
        .await
}

/// Sets a place's weight, limit, patience and audiences.
pub async fn set(connection: &mut Connection, changed: &Place, at: Moment) -> Result<()> {
    connection
        .transaction(async |connection| {
            diesel::update(place::table.find(changed.id))
                .set((
                    place::weight.eq(changed.weight),
                    place::slot_limit.eq(changed.slot_limit),
                    place::give_up_us.eq(changed.give_up_us),
                    place::audiences.eq(&changed.audiences),
                ))
                .execute(connection)
                .await?;
            let change = Change::PlaceChanged {
                place: changed.id.0,
                path: changed.path.clone(),
            };
            outbox::write(connection, at, &change).await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// Every place.
pub async fn all(connection: &mut Connection) -> Result<Vec<Place>> {
    Ok(place::table
        .select(Place::as_select())
        .order(place::path)
        .load(connection)
        .await?)
}

/// Every place of a kind, by path.
pub async fn list(connection: &mut Connection, kind: &str) -> Result<Vec<Place>> {
    Ok(place::table
        .select(Place::as_select())
        .filter(place::kind.eq(kind))
        .order(place::path)
        .load(connection)
        .await?)
}

/// The places of a kind with this path, or, where the text has no `/`, with this name.
pub async fn find(connection: &mut Connection, kinds: &[&str], text: &str) -> Result<Vec<Place>> {
    let found: Vec<Place> = place::table
        .select(Place::as_select())
        .filter(place::kind.eq_any(kinds))
        .filter(place::path.eq(text).or(place::name.eq(text)))
        .order(place::path)
        .load(connection)
        .await?;
    // The exact path wins over the same name elsewhere.
    match found.iter().find(|place| place.path == text) {
        Some(exact) => Ok(vec![exact.clone()]),
        None => Ok(found),
    }
}

/// The audiences that a place and those above it allow, each with its path, from the root down.
pub async fn audiences(
    connection: &mut Connection,
    path: &str,
) -> Result<Vec<(String, Vec<String>)>> {
    let mut paths = vec![String::new()];
    let ends = path.match_indices('/').map(|(end, _)| end);
    paths.extend(ends.filter_map(|end| path.get(..end)).map(str::to_owned));
    paths.push(path.to_owned());
    Ok(place::table
        .select((place::path, place::audiences))
        .filter(place::path.eq_any(paths))
        .order(place::path)
        .load(connection)
        .await?)
}

/// The root.
pub async fn root(connection: &mut Connection) -> Result<Place> {
    Ok(place::table
        .select(Place::as_select())
        .filter(place::kind.eq("root"))
        .first(connection)
        .await?)
}

/// Moves a place below another, with everything below it. What is written by path goes along.
pub async fn move_below(
    connection: &mut Connection,
    moved: &Place,
    parent: &Place,
    at: Moment,
) -> Result<Place> {
    let to = match parent.path.as_str() {
        "" => moved.name.clone(),
        above => format!("{above}/{}", moved.name),
    };
    let mut after = moved.clone();
    after.parent_id = Some(parent.id.0.0);
    after.path.clone_from(&to);
    connection
        .transaction(async |connection| {
            sql!(
                "update place set path = :to || substr(path, length(:path) + 1),
                        parent_id = case when id = :place then :parent else parent_id end
                 where path = :path or starts_with(path, :path || '/')";
                to: Text = &to,
                path: Text = &moved.path,
                place: SqlUuid = moved.id,
                parent: SqlUuid = parent.id,
            )
            .execute(connection)
            .await?;
            sql!(
                "update pool set
                   narrow_to = array(select case when p = :path or starts_with(p, :path || '/') then :to || substr(p, length(:path) + 1)
                                      else p end from unnest(narrow_to) p),
                   widen_to = array(select case when p = :path or starts_with(p, :path || '/') then :to || substr(p, length(:path) + 1)
                                      else p end from unnest(widen_to) p),
                   approved = array(select case when p = :path or starts_with(p, :path || '/') then :to || substr(p, length(:path) + 1)
                                      else p end from unnest(approved) p)";
                path: Text = &moved.path,
                to: Text = &to,
            )
            .execute(connection)
            .await?;
            let change = Change::PlaceMoved {
                place: moved.id.0,
                from: moved.path.clone(),
                to,
            };
            outbox::write(connection, at, &change).await?;
            decision_input::record(connection, at).await
        })
        .await?;
    Ok(after)
}

#[derive(QueryableByName)]
struct PathRow {
    #[diesel(sql_type = Text)]
    path: String,
}

/// The path of the place that owns a pool; the root's where there is no such pool.
pub async fn of_pool(connection: &mut Connection, pool: PoolId) -> Result<String> {
    let row: Option<PathRow> = sql!(
        "select p.path from pool o join place p on p.id = o.owner_id where o.id = :pool";
        pool: SqlUuid = Db(pool),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.path).unwrap_or_default())
}

/// The path of the place that owns a runner's pool; the root's where there is no such runner.
pub async fn of_runner(connection: &mut Connection, runner: RunnerId) -> Result<String> {
    let row: Option<PathRow> = sql!(
        "select p.path from runner r join pool o on o.id = r.pool_id join place p on p.id = o.owner_id where r.id = :runner";
        runner: SqlUuid = Db(runner),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.path).unwrap_or_default())
}

/// What a place holds.
#[derive(Clone, Copy, Debug, QueryableByName)]
pub struct PlaceContents {
    #[diesel(sql_type = BigInt)]
    pub places: i64,
    #[diesel(sql_type = BigInt)]
    pub pools: i64,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
    /// Tokens that are not revoked.
    #[diesel(sql_type = BigInt)]
    pub tokens: i64,
}

/// What lies directly in a place.
pub async fn contents(connection: &mut Connection, place: &Place) -> Result<PlaceContents> {
    Ok(sql!(
        "select (select count(*) from place where parent_id = :id) as places,
                (select count(*) from pool where owner_id = :id and removed_at is null) as pools,
                (select count(*) from strand s cross join lateral (
                   select id from job where strand_id = s.id and open
                   union select id from job where strand_id = s.id and never_ran
                   union select job_id from attempt where strand_id = s.id) held
                 where s.project_id = :id) as jobs,
                (select count(*) from token where place_id = :id and revoked_at is null) as tokens";
        id: SqlUuid = place.id,
    )
    .get_result(connection)
    .await?)
}

/// What ends with a place.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, QueryableByName)]
pub struct PlaceBelongings {
    /// `NAME ROLE` of the people with a role there.
    #[diesel(sql_type = Array<Text>)]
    pub people: Vec<String>,
    /// `NAME ROLE` of the groups with a role there.
    #[diesel(sql_type = Array<Text>)]
    pub groups: Vec<String>,
    #[diesel(sql_type = Array<Text>)]
    pub variables: Vec<String>,
    #[diesel(sql_type = Array<Text>)]
    pub secrets: Vec<String>,
}

/// Returns what would end with a place.
pub async fn belongings(connection: &mut Connection, place: PlaceId) -> Result<PlaceBelongings> {
    Ok(sql!(
        "select array(select q.name || ' ' || g.role from person_grant g join person q on q.id = g.person_id
                      where g.place_id = :place order by 1) as people,
                array(select name || ' ' || role from group_grant where place_id = :place order by 1) as groups,
                array(select name from variable where place_id = :place order by 1) as variables,
                array(select name from secret where place_id = :place order by 1) as secrets";
        place: SqlUuid = Db(place),
    )
    .get_result(connection)
    .await?)
}

/// Removes a place that holds nothing.
pub async fn remove(connection: &mut Connection, gone: &Place, at: Moment) -> Result<()> {
    connection
        .transaction(async |connection| {
            sql!(
                "delete from strand where project_id = :id";
                id: SqlUuid = gone.id,
            )
            .execute(connection)
            .await?;
            // Revoked tokens are named in the record; they grant nothing anywhere.
            sql!(
                "update token set place_id = (select parent_id from place where id = :id) where place_id = :id";
                id: SqlUuid = gone.id,
            )
            .execute(connection)
            .await?;
            diesel::delete(place::table.find(gone.id))
                .execute(connection)
                .await?;
            let change = Change::PlaceRemoved {
                place: gone.id.0,
                path: gone.path.clone(),
            };
            outbox::write(connection, at, &change).await?;
            decision_input::record(connection, at).await
        })
        .await
}
