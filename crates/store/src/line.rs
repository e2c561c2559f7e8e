//! The jobs that wait for a runner, strand by strand, in line: those that became ready first come first, then the
//! smaller number. A job that has a runner and was not started yet does not stand in line any more.

use crate::connect::Connection;
use crate::error::Result;
use crate::job::{Found, FoundRow, Job};
use crate::statement::statement;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::{JobId, StrandId};
use pennine_core::lifecycle::job::JobState;
use pennine_core::time::Moment;
use std::collections::HashMap;

/// How many wait in a strand, or in a stretch of one.
#[derive(Clone, Debug, QueryableByName)]
pub struct InLine {
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
    /// Since when the one that waits longest waits.
    #[diesel(sql_type = Timestamptz)]
    pub oldest: Db<Moment>,
    /// The number of the first.
    #[diesel(sql_type = BigInt)]
    pub first: i64,
}

/// The strands in which jobs wait.
pub async fn strands(connection: &mut Connection) -> Result<Vec<InLine>> {
    Ok(statement(
        "select strand_id, count(*) as jobs, min(waits_since) as oldest,
                (array_agg(number order by ready_at, number))[1] as first
         from job where state = $1 and open and current_attempt is null group by strand_id",
    )
    .bind::<Text, _>(Db(JobState::Pending))
    .load(connection)
    .await?)
}

/// Part of a strand's line: the jobs from one place to before another, the head being place 0.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Stretch {
    pub strand: StrandId,
    pub from: u32,
    /// None means to the end.
    pub to: Option<u32>,
}

impl Stretch {
    /// The whole line.
    pub fn whole(strand: StrandId) -> Self {
        Stretch {
            strand,
            from: 0,
            to: None,
        }
    }
}

fn place_number(place: u32) -> i32 {
    i32::try_from(place).unwrap_or(i32::MAX)
}

fn places(stretches: &[Stretch]) -> (Vec<uuid::Uuid>, Vec<i32>, Vec<Option<i32>>) {
    (
        stretches.iter().map(|one| one.strand.0).collect(),
        stretches.iter().map(|one| place_number(one.from)).collect(),
        stretches
            .iter()
            .map(|one| one.to.map(place_number))
            .collect(),
    )
}

/// What waits in a stretch; none when nothing does.
pub async fn stretch(connection: &mut Connection, one: Stretch) -> Result<Option<InLine>> {
    let [from, to] = [Some(one.from), one.to].map(|place| place.map(place_number));
    let found: Vec<InLine> = statement(
        "select strand_id, count(*) as jobs, min(waits_since) as oldest, (array_agg(number order by place))[1] as first
         from (select strand_id, number, waits_since, row_number() over (order by ready_at, number) - 1 as place
               from job where strand_id = $1 and state = $2 and open and current_attempt is null) w
         where place >= $3 and place < coalesce($4::integer, 2147483647) group by strand_id",
    )
    .bind::<SqlUuid, _>(Db(one.strand))
    .bind::<Text, _>(Db(JobState::Pending))
    .bind::<Integer, _>(from.unwrap_or(0))
    .bind::<Nullable<Integer>, _>(to)
    .load(connection)
    .await?;
    Ok(found.into_iter().next())
}

/// The jobs that wait in these stretches, longest ready first.
pub async fn find(connection: &mut Connection, stretches: &[Stretch], limit: i64) -> Result<Found> {
    let (strands, from, to) = places(stretches);
    let rows: Vec<FoundRow> = statement(
        "with s as (select * from unnest($1, $2, $3) as s(strand, a, b)),
         w as (select id, strand_id, ready_at, number,
                      row_number() over (partition by strand_id order by ready_at, number) - 1 as place
               from job where strand_id = any($4) and state = $5 and open and current_attempt is null)
         select w.id, count(*) over () as found
         from w join s on s.strand = w.strand_id and w.place >= s.a and (s.b is null or w.place < s.b)
         order by w.ready_at, w.number limit $6",
    )
    .bind::<Array<SqlUuid>, _>(&strands)
    .bind::<Array<Integer>, _>(from)
    .bind::<Array<Nullable<Integer>>, _>(to)
    .bind::<Array<SqlUuid>, _>(&strands)
    .bind::<Text, _>(Db(JobState::Pending))
    .bind::<BigInt, _>(limit)
    .load(connection)
    .await?;
    Ok(rows.into_iter().collect())
}

/// How many jobs stand before each waiting job of these strands.
pub async fn ahead(
    connection: &mut Connection,
    strands: &[StrandId],
) -> Result<HashMap<JobId, u32>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        id: Db<JobId>,
        #[diesel(sql_type = BigInt)]
        ahead: i64,
    }
    let rows: Vec<Row> = statement(
        "select id, row_number() over (partition by strand_id order by ready_at, number) - 1 as ahead
         from job where strand_id = any($1) and state = $2 and open and current_attempt is null",
    )
    .bind::<Array<SqlUuid>, _>(strands.iter().map(|id| id.0).collect::<Vec<_>>())
    .bind::<Text, _>(Db(JobState::Pending))
    .load(connection)
    .await?;
    let ahead = |row: &Row| (row.id.0, u32::try_from(row.ahead).unwrap_or(u32::MAX));
    Ok(rows.iter().map(ahead).collect())
}

/// How many jobs of a strand stand before this one.
pub async fn before(connection: &mut Connection, job: &Job) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        jobs: i64,
    }
    let row: Row = statement(
        "select count(*) as jobs from job
         where strand_id = $1 and state = $2 and open and current_attempt is null
           and (ready_at, number) < ($3, $4)",
    )
    .bind::<SqlUuid, _>(job.strand_id)
    .bind::<Text, _>(Db(JobState::Pending))
    .bind::<Nullable<Timestamptz>, _>(job.ready_at)
    .bind::<BigInt, _>(job.number)
    .get_result(connection)
    .await?;
    Ok(row.jobs)
}
