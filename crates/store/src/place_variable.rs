//! Environment variables of the jobs of a place and of the places below it.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::PlaceId;
use pennine_core::time::Moment;

/// A variable of a place.
#[derive(Clone, Debug, QueryableByName)]
pub struct PlaceVariable {
    /// The place's path; empty for the root.
    #[diesel(sql_type = Text)]
    pub place: String,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub value: String,
    #[diesel(sql_type = Timestamptz)]
    pub set_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub set_by: String,
}

/// The columns of a [`PlaceVariable`], of variables that are called `v`, with their places `p`.
macro_rules! variable_query {
    ($rest:literal) => {
        concat!(
            "select p.path as place, v.name, v.value, v.set_at, v.set_by
             from place_variable v join place p on p.id = v.place_id ",
            $rest
        )
    };
}

/// The variables of all places, or of these and those below them, by place and name.
pub async fn list(
    connection: &mut Connection,
    visible: Option<&[String]>,
) -> Result<Vec<PlaceVariable>> {
    Ok(sql!(
        variable_query!(
            "where :visible::text[] is null or is_below_any(p.path, :visible) order by p.path, v.name"
        );
        visible: Nullable<Array<Text>> = visible,
    )
    .load(connection)
    .await?)
}

/// The variables that the jobs of a place get from it and from the places above, by name: of several with one name that of the
/// nearest place.
pub async fn in_effect(connection: &mut Connection, path: &str) -> Result<Vec<PlaceVariable>> {
    Ok(sql!(
        "select distinct on (v.name) p.path as place, v.name, v.value, v.set_at, v.set_by
         from place_variable v join place p on p.id = v.place_id
         where p.path in ('', :path) or starts_with(:path, p.path || '/')
         order by v.name, length(p.path) desc";
        path: Text = path,
    )
    .load(connection)
    .await?)
}

/// Sets a variable of a place. Returns its value before.
pub async fn set(
    connection: &mut Connection,
    place: PlaceId,
    name: &str,
    value: &str,
    at: Moment,
    by: &str,
) -> Result<Option<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Nullable<Text>)]
        before: Option<String>,
    }
    let row: Row = sql!(
        "with old as (select value from place_variable where place_id = :place and name = :name),
              new as (insert into place_variable (place_id, name, value, set_at, set_by) values (:place, :name, :value, :at, :by)
                      on conflict (place_id, name) do update
                      set value = excluded.value, set_at = excluded.set_at, set_by = excluded.set_by)
         select (select value from old) as before";
        place: SqlUuid = Db(place),
        name: Text = name,
        value: Text = value,
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .get_result(connection)
    .await?;
    Ok(row.before)
}

/// Removes a variable of a place. False where there is none with this name.
pub async fn remove(connection: &mut Connection, place: PlaceId, name: &str) -> Result<bool> {
    let removed = sql!(
        "delete from place_variable where place_id = :place and name = :name";
        place: SqlUuid = Db(place),
        name: Text = name,
    )
    .execute(connection)
    .await?;
    Ok(removed == 1)
}

/// How many variables a place has, and how long their names and values are together, in bytes.
pub async fn size(connection: &mut Connection, place: PlaceId) -> Result<(i64, i64)> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        count: i64,
        #[diesel(sql_type = BigInt)]
        bytes: i64,
    }
    let row: Row = sql!(
        "select count(*), coalesce(sum(octet_length(name) + octet_length(value)), 0)::bigint as bytes
         from place_variable where place_id = :place";
        place: SqlUuid = Db(place),
    )
    .get_result(connection)
    .await?;
    Ok((row.count, row.bytes))
}
