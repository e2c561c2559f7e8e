//! Roles of the people in a group of the OpenID provider.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::access::Role;
use pennine_core::id::PlaceId;
use pennine_core::time::Moment;

/// A role of a group at a place.
#[derive(Clone, Debug, QueryableByName)]
pub struct GroupGrant {
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub role: Db<Role>,
    /// The place's path; empty for the root.
    #[diesel(sql_type = Text)]
    pub place: String,
    #[diesel(sql_type = Timestamptz)]
    pub granted_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub granted_by: String,
}

/// The grants at all places, or at these and those below them, by group and place.
pub async fn list(
    connection: &mut Connection,
    visible: Option<&[String]>,
) -> Result<Vec<GroupGrant>> {
    Ok(sql!(
        "select g.name, g.role, p.path as place, g.granted_at, g.granted_by from group_grant g join place p on p.id = g.place_id
         where :visible::text[] is null or is_below_any(p.path, :visible) order by g.name, p.path";
        visible: Nullable<Array<Text>> = visible,
    )
    .load(connection)
    .await?)
}

/// Gives a group a role at a place, in the place of the one that it had there.
pub async fn grant(
    connection: &mut Connection,
    name: &str,
    place: PlaceId,
    role: Role,
    at: Moment,
    by: &str,
) -> Result<()> {
    sql!(
        "insert into group_grant (name, place_id, role, granted_at, granted_by) values (:name, :place, :role, :at, :by)
         on conflict (name, place_id) do update
         set role = excluded.role, granted_at = excluded.granted_at, granted_by = excluded.granted_by";
        name: Text = name,
        place: SqlUuid = Db(place),
        role: Text = Db(role),
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Takes the role of a group at a place away. Returns it; nothing where there was none.
pub async fn revoke(
    connection: &mut Connection,
    name: &str,
    place: PlaceId,
) -> Result<Option<Role>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Text)]
        role: Db<Role>,
    }
    let rows: Vec<Row> = sql!(
        "delete from group_grant where name = :name and place_id = :place returning role";
        name: Text = name,
        place: SqlUuid = Db(place),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().next().map(|row| row.role.0))
}
