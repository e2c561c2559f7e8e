//! Secrets of the jobs of a place and of the places below it, or of the jobs that run in a pool.

use crate::attempt::report::HeldLease;
use crate::connect::Connection;
use crate::error::Result;
use crate::setting_owner::SettingOwner;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::{JobId, PoolId};
use pennine_core::job_policy::JobPolicy;
use pennine_core::secret::SecretUses;
use pennine_core::time::Moment;
use pennine_core::trust::Trust;
use uuid::Uuid;

/// A secret without its value.
#[derive(Clone, Debug, QueryableByName)]
pub struct Secret {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    /// The path of its place, or of the place that owns its pool; empty for the root.
    #[diesel(sql_type = Text)]
    pub place: String,
    /// The pool in which jobs get it, where it is a pool's.
    #[diesel(sql_type = Nullable<Text>)]
    pub pool: Option<String>,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Integer)]
    pub version: i32,
    /// What the outside store calls it, where it is kept there.
    #[diesel(sql_type = Nullable<Text>)]
    pub reference: Option<String>,
    /// The pools that may receive it; any where there is none.
    #[diesel(sql_type = Array<Text>)]
    pub pools: Vec<String>,
    #[diesel(sql_type = Timestamptz)]
    pub set_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub set_by: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub used_at: Option<Db<Moment>>,
}

/// A secret with its value, encrypted, where it is kept here.
#[derive(Clone, Debug, QueryableByName)]
pub struct LockedSecret {
    #[diesel(embed)]
    pub secret: Secret,
    #[diesel(sql_type = Nullable<Text>)]
    pub locked: Option<String>,
}

/// Selects a [`Secret`] as `s`, with its place `p`, or its pool `l` and that one's owner `o`. The texts are more columns, and the
/// rest of the statement.
macro_rules! secret_query {
    ($selection:literal, $columns:literal, $rest:literal) => {
        concat!(
            "select ", $selection,
            " s.id, coalesce(p.path, o.path) as place, l.name as pool, s.name, s.version, s.reference, s.pools, s.set_at,
                    s.set_by, s.used_at ",
            $columns,
            " from secret s left join place p on p.id = s.place_id left join pool l on l.id = s.pool_id
             left join place o on o.id = l.owner_id ",
            $rest
        )
    };
}

/// The secrets of all places and pools, or of these places, those below them and their pools, by place, pool and name.
pub async fn list(connection: &mut Connection, visible: Option<&[String]>) -> Result<Vec<Secret>> {
    Ok(sql!(
        secret_query!(
            "",
            "",
            "where l.removed_at is null and (:visible::text[] is null or is_below_any(coalesce(p.path, o.path), :visible))
             order by 2, 3 nulls first, 4"
        );
        visible: Nullable<Array<Text>> = visible,
    )
    .load(connection)
    .await?)
}

/// The secrets that the jobs of a place may name, from it and from the places above: of several with one name that of the nearest
/// place.
pub async fn in_effect(connection: &mut Connection, path: &str) -> Result<Vec<Secret>> {
    Ok(sql!(
        secret_query!(
            "distinct on (s.name)",
            "",
            "where p.path in ('', :path) or starts_with(:path, p.path || '/') order by s.name, length(p.path) desc"
        );
        path: Text = path,
    )
    .load(connection)
    .await?)
}

/// The pools that have secrets with these names.
pub async fn pools_with(connection: &mut Connection, names: &[String]) -> Result<Vec<Secret>> {
    Ok(sql!(
        secret_query!("", "", "where s.pool_id is not null and l.removed_at is null and s.name = any(:names) order by 3, 4");
        names: Array<Text> = names,
    )
    .load(connection)
    .await?)
}

/// Where the value of a secret is.
#[derive(Clone, Copy, Debug)]
pub enum StoredValue<'a> {
    /// Here, encrypted.
    Locked(&'a str),
    /// In an outside store, which calls it so.
    Reference(&'a str),
}

/// A secret to set.
#[derive(Clone, Debug)]
pub struct NewSecret<'a> {
    pub id: Uuid,
    pub owner: SettingOwner,
    pub name: &'a str,
    pub value: StoredValue<'a>,
    pub pools: &'a [String],
    pub at: Moment,
    pub by: &'a str,
}

#[derive(QueryableByName)]
struct VersionRow {
    #[diesel(sql_type = Integer)]
    version: i32,
}

/// Returns the id of the secret with this name, where its owner has one, and locks it until the transaction ends.
pub async fn lock(
    connection: &mut Connection,
    owner: SettingOwner,
    name: &str,
) -> Result<Option<Uuid>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Uuid,
    }
    let (place, pool) = owner.columns();
    let row: Option<Row> = sql!(
        "select id from secret where (place_id = :place or pool_id = :pool) and name = :name for update";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.id))
}

/// Sets a secret: a new one, or the next version of the one with this id. Returns its version.
pub async fn set(connection: &mut Connection, new: NewSecret<'_>) -> Result<i32> {
    let (place, pool) = new.owner.columns();
    let (locked, reference) = match new.value {
        StoredValue::Locked(text) => (Some(text), None),
        StoredValue::Reference(text) => (None, Some(text)),
    };
    let row: VersionRow = sql!(
        "insert into secret (id, place_id, pool_id, name, version, locked, reference, pools, set_at, set_by)
         values (:id, :place, :pool, :name, 1, :locked, :reference, :pools, :at, :by)
         on conflict (id) do update set version = secret.version + 1, locked = excluded.locked, reference = excluded.reference,
             pools = excluded.pools, set_at = excluded.set_at, set_by = excluded.set_by
         returning version";
        id: SqlUuid = new.id,
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
        name: Text = new.name,
        locked: Nullable<Text> = locked,
        reference: Nullable<Text> = reference,
        pools: Array<Text> = new.pools,
        at: Timestamptz = Db(new.at),
        by: Text = new.by,
    )
    .get_result(connection)
    .await?;
    Ok(row.version)
}

/// Removes a secret. Returns its last version; nothing where there is none with this name.
pub async fn remove(
    connection: &mut Connection,
    owner: SettingOwner,
    name: &str,
) -> Result<Option<i32>> {
    let (place, pool) = owner.columns();
    let row: Option<VersionRow> = sql!(
        "delete from secret where (place_id = :place or pool_id = :pool) and name = :name returning version";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(row.map(|row| row.version))
}

/// How many secrets an owner has.
pub async fn count(connection: &mut Connection, owner: SettingOwner) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        count: i64,
    }
    let (place, pool) = owner.columns();
    let row: Row = sql!(
        "select count(*) from secret where place_id = :place or pool_id = :pool";
        place: Nullable<SqlUuid> = place,
        pool: Nullable<SqlUuid> = pool,
    )
    .get_result(connection)
    .await?;
    Ok(row.count)
}

/// An attempt that is not over, as far as what it is given depends on it.
#[derive(Clone, Debug, QueryableByName)]
pub struct Recipient {
    #[diesel(sql_type = SqlUuid)]
    pub job_id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    /// The path of its project.
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Text)]
    pub runner: String,
    #[diesel(sql_type = Text)]
    pub trust: Db<Trust>,
    #[diesel(sql_type = Jsonb)]
    pub secrets: Json<SecretUses>,
    #[diesel(sql_type = Bool)]
    pub is_cancelled: bool,
    #[diesel(sql_type = BigInt)]
    pub run_number: i64,
    #[diesel(sql_type = Nullable<Text>)]
    pub branch: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub revision: Option<String>,
    /// The attempt's number, from 1.
    #[diesel(sql_type = Integer)]
    pub attempt_number: i32,
    /// What its pool's jobs may reach and use.
    #[diesel(sql_type = Jsonb)]
    pub policy: Json<JobPolicy>,
}

/// The attempt that a runner holds under a lease, if it is not over.
pub async fn recipient(connection: &mut Connection, held: HeldLease) -> Result<Option<Recipient>> {
    Ok(sql!(
        "select j.id as job_id, j.number as job_number, p.path as project, l.id as pool_id, l.name as pool, r.name as runner,
                j.trust, j.secrets, j.cancel_at is not null as is_cancelled,
                u.number as run_number, u.branch, u.revision, a.number as attempt_number, l.jobs as policy
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id join pool l on l.id = a.pool_id
         join runner r on r.id = a.runner_id join run u on u.id = j.run_id
         where a.id = :attempt and a.runner_id = :runner and a.lease = :lease and a.open";
        attempt: SqlUuid = Db(held.attempt),
        runner: SqlUuid = Db(held.runner),
        lease: SqlUuid = Db(held.lease),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// The secrets with these names for a job of a project in a pool: of several with one name that of the pool, then that of the
/// nearest place.
pub async fn for_job(
    connection: &mut Connection,
    names: &[String],
    project: &str,
    pool: PoolId,
) -> Result<Vec<LockedSecret>> {
    Ok(sql!(
        secret_query!(
            "distinct on (s.name)",
            ", s.locked",
            "where s.name = any(:names) and (p.path in ('', :project) or starts_with(:project, p.path || '/') or s.pool_id = :pool)
             order by s.name, s.pool_id is null, length(p.path) desc"
        );
        names: Array<Text> = names,
        project: Text = project,
        pool: SqlUuid = Db(pool),
    )
    .load(connection)
    .await?)
}

/// Notes that secrets were given to a job.
pub async fn mark_used(connection: &mut Connection, ids: &[Uuid], at: Moment) -> Result<()> {
    sql!(
        "update secret set used_at = greatest(used_at, :at) where id = any(:ids)";
        ids: Array<SqlUuid> = ids,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}
