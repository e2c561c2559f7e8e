//! Environment variables of the jobs of a place and of the places below it, or of the jobs that run in a pool.

use crate::connect::Connection;
use crate::error::Result;
use crate::setting_owner::SettingOwner;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::time::Moment;

/// A variable of a place or of a pool.
#[derive(Clone, Debug, QueryableByName)]
pub struct Variable {
    /// The path of its place, or of the place that owns its pool; empty for the root.
    #[diesel(sql_type = Text)]
    pub place: String,
    /// The pool in which jobs get it, where it is a pool's.
    #[diesel(sql_type = Nullable<Text>)]
    pub pool: Option<String>,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub value: String,
    #[diesel(sql_type = Timestamptz)]
    pub set_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub set_by: String,
}

/// Selects a [`Variable`] as `v`, with its place `p`, or its pool `l` and that one's owner `o`. The texts are of the selection, and
/// the rest of the statement.
macro_rules! variable_query {
    ($selection:literal, $rest:literal) => {
        concat!(
            "select ",
            $selection,
            " coalesce(p.path, o.path) as place, l.name as pool, v.name, v.value, v.set_at, v.set_by
             from variable v left join place p on p.id = v.place_id left join pool l on l.id = v.pool_id
             left join place o on o.id = l.owner_id ",
            $rest
        )
    };
}

/// The variables of all places and pools, or of these places, those below them and their pools, by place, pool and name.
pub async fn list(
    connection: &mut Connection,
    visible: Option<&[String]>,
) -> Result<Vec<Variable>> {
    Ok(sql!(
        variable_query!(
            "",
            "where l.removed_at is null and (:visible::text[] is null or is_below_any(coalesce(p.path, o.path), :visible))
             order by 1, 2 nulls first, 3"
        );
        visible: Nullable<Array<Text>> = visible,
    )
    .load(connection)
    .await?)
}

/// The variables that the jobs of a place get from it and from the places above, by name: of several with one name that of the
/// nearest place.
pub async fn in_effect(connection: &mut Connection, path: &str) -> Result<Vec<Variable>> {
    Ok(sql!(
        variable_query!(
            "distinct on (v.name)",
            "where p.path in ('', :path) or starts_with(:path, p.path || '/') order by v.name, length(p.path) desc"
        );
        path: Text = path,
    )
    .load(connection)
    .await?)
}

/// Sets a variable. Returns its value before.
pub async fn set(
    connection: &mut Connection,
    owner: SettingOwner,
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
    let (place, pool) = owner.columns();
    let row: Row = sql!(
        "with old as (select value from variable where (place_id = :place or pool_id = :pool) and name = :name),
              of_place as (
                insert into variable (place_id, name, value, set_at, set_by)
                select :place, :name, :value, :at, :by where :place is not null
                on conflict (place_id, name) do update
                set value = excluded.value, set_at = excluded.set_at, set_by = excluded.set_by),
              of_pool as (
                insert into variable (pool_id, name, value, set_at, set_by)
                select :pool, :name, :value, :at, :by where :pool is not null
                on conflict (pool_id, name) do update
                set value = excluded.value, set_at = excluded.set_at, set_by = excluded.set_by)
         select (select value from old) as before";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
        name: Text = name,
        value: Text = value,
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .get_result(connection)
    .await?;
    Ok(row.before)
}

/// Removes a variable. Returns its value; nothing where its owner has none with this name.
pub async fn remove(
    connection: &mut Connection,
    owner: SettingOwner,
    name: &str,
) -> Result<Option<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Text)]
        value: String,
    }
    let (place, pool) = owner.columns();
    let rows: Vec<Row> = sql!(
        "delete from variable where (place_id = :place or pool_id = :pool) and name = :name returning value";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
        name: Text = name,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().next().map(|row| row.value))
}

/// How many variables an owner has, and how long their names and values are together, in bytes.
pub async fn size(connection: &mut Connection, owner: SettingOwner) -> Result<(i64, i64)> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        count: i64,
        #[diesel(sql_type = BigInt)]
        bytes: i64,
    }
    let (place, pool) = owner.columns();
    let row: Row = sql!(
        "select count(*), coalesce(sum(octet_length(name) + octet_length(value)), 0)::bigint as bytes
         from variable where place_id = :place or pool_id = :pool";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
    )
    .get_result(connection)
    .await?;
    Ok((row.count, row.bytes))
}
