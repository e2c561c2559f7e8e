//! Strands, and why their jobs wait, as a timeline.

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bytea, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::{Segment, StrandKey};
use pennine_core::id::StrandId;
use pennine_core::time::Moment;
use sha2::{Digest, Sha256};
use uuid::Uuid;

/// A strand, with its project's path.
#[derive(Clone, Debug, QueryableByName)]
pub struct Strand {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<StrandId>,
    #[diesel(sql_type = Jsonb)]
    pub key: Json<StrandKey>,
    #[diesel(sql_type = Text)]
    pub project: String,
}

/// The strand of this key, made if there is none yet.
pub async fn ensure(
    connection: &mut Connection,
    fresh: StrandId,
    key: &StrandKey,
    at: Moment,
) -> Result<StrandId> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<StrandId>,
    }
    let canonical = serde_json::to_vec(key).map_err(|e| crate::Error::Refused(e.to_string()))?;
    let row: Row = sql!(
        "insert into strand (id, key_hash, key, project_id, created_at) values (:fresh, :key_hash, :key, :project, :at)
         on conflict (key_hash) do update set key_hash = excluded.key_hash returning id";
        fresh: SqlUuid = Db(fresh),
        key_hash: Bytea = Sha256::digest(&canonical).to_vec(),
        key: Jsonb = Json(key.clone()),
        project: SqlUuid = Db(key.project),
        at: Timestamptz = Db(at),
    )
    .get_result(connection)
    .await?;
    Ok(row.id.0)
}

/// The strands with these ids.
pub async fn get(connection: &mut Connection, ids: &[StrandId]) -> Result<Vec<Strand>> {
    Ok(sql!(
        "select s.id, s.key, p.path as project from strand s join place p on p.id = s.project_id
         where s.id = any(:ids)";
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<Uuid>>(),
    )
    .load(connection)
    .await?)
}

/// Records that strands wait for other reasons from now on. False, and nothing recorded, when another leads by now.
pub async fn record(
    connection: &mut Connection,
    epoch: Epoch,
    at: Moment,
    changes: &[(StrandId, Vec<Segment>)],
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        fenced: i64,
    }
    let ids: Vec<Uuid> = changes.iter().map(|(id, _)| id.0).collect();
    let segments: Vec<Json<Vec<Segment>>> = changes
        .iter()
        .map(|(_, segments)| Json(segments.clone()))
        .collect();
    let row: Row = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
              change as (select * from unnest(:ids, :segments) as t(strand_id, segments)),
              kept as (
                insert into strand_reason (strand_id, since, segments)
                select strand_id, :at, segments from change, fence
                on conflict (strand_id, since) do update set segments = excluded.segments
                returning strand_id, since, segments),
              told as ("
                change StrandReason { strand: "strand_id", segments: "segments" } at "since" from "kept"
                ")
         select count(*) as fenced from fence";
        epoch: BigInt = epoch.0,
        ids: Array<SqlUuid> = ids,
        segments: Array<Jsonb> = segments,
        at: Timestamptz = Db(at),
    )
    .get_result(connection)
    .await?;
    Ok(row.fenced == 1)
}

#[derive(QueryableByName)]
struct ReasonRow {
    #[diesel(sql_type = SqlUuid)]
    strand_id: Db<StrandId>,
    #[diesel(sql_type = Timestamptz)]
    since: Db<Moment>,
    #[diesel(sql_type = Jsonb)]
    segments: Json<Vec<Segment>>,
}

/// What was last recorded of each of these strands, and since when it holds.
pub async fn latest(
    connection: &mut Connection,
    ids: &[StrandId],
) -> Result<Vec<(StrandId, Moment, Vec<Segment>)>> {
    let rows: Vec<ReasonRow> = sql!(
        "select r.* from unnest(:ids) as wanted(id) cross join lateral (
           select strand_id, since, segments from strand_reason where strand_id = wanted.id
           order by since desc limit 1) r";
        ids: Array<SqlUuid> = ids.iter().map(|id| id.0).collect::<Vec<Uuid>>(),
    )
    .load(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|row| (row.strand_id.0, row.since.0, row.segments.0))
        .collect())
}

/// A strand in which jobs wait, or arrived recently.
#[derive(Clone, Debug, QueryableByName)]
pub struct UsedStrand {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<StrandId>,
    #[diesel(sql_type = Jsonb)]
    pub key: Json<StrandKey>,
    #[diesel(sql_type = Text)]
    pub project: String,
    /// Jobs that wait.
    #[diesel(sql_type = BigInt)]
    pub waiting: i64,
    /// Jobs submitted since then.
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
}

/// Returns the strands of waiting jobs, and of jobs submitted since.
pub async fn used_since(connection: &mut Connection, since: Moment) -> Result<Vec<UsedStrand>> {
    Ok(sql!(
        "select s.id, s.key, p.path as project, u.waiting, u.jobs
         from (select strand_id, count(*) filter (where state = 'pending' and current_attempt is null) as waiting,
                      count(*) filter (where created_at >= :since) as jobs
               from job where created_at >= :since or open group by strand_id) u
         join strand s on s.id = u.strand_id join place p on p.id = s.project_id";
        since: Timestamptz = Db(since),
    )
    .load(connection)
    .await?)
}

/// Forgets why strands waited before a moment, except what was so at that moment; some at a time.
pub async fn forget_reasons(
    connection: &mut Connection,
    before: Moment,
    most: i64,
) -> Result<usize> {
    Ok(sql!(
        "delete from strand_reason where (strand_id, since) in (
           select r.strand_id, r.since from strand_reason r
           where r.since < :before and exists (
             select from strand_reason l where l.strand_id = r.strand_id and l.since > r.since and l.since <= :before)
           limit :most)";
        before: Timestamptz = Db(before),
        most: BigInt = most,
    )
    .execute(connection)
    .await?)
}
