//! The jobs that wait for a runner, strand by strand, in line: jobs that became ready earlier come first, then the
//! smaller number. A job that has a runner and was not started yet does not stand in line any more.

use crate::connect::Connection;
use crate::error::Result;
use crate::job::Job;
use crate::job_selection::{FoundRow, JobMatches};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::{JobId, StrandId};
use pennine_core::lifecycle::job::JobState;
use std::collections::HashMap;

/// Part of a strand's line: the jobs from one place to before another, the head being place 0.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct TimelineSpan {
    pub strand: StrandId,
    pub from: u32,
    /// None means to the end.
    pub to: Option<u32>,
}

fn place_number(place: u32) -> i32 {
    i32::try_from(place).unwrap_or(i32::MAX)
}

fn places(stretches: &[TimelineSpan]) -> (Vec<uuid::Uuid>, Vec<i32>, Vec<Option<i32>>) {
    (
        stretches.iter().map(|one| one.strand.0).collect(),
        stretches.iter().map(|one| place_number(one.from)).collect(),
        stretches
            .iter()
            .map(|one| one.to.map(place_number))
            .collect(),
    )
}

/// The jobs that wait in these stretches, longest ready first.
pub async fn find(
    connection: &mut Connection,
    stretches: &[TimelineSpan],
    limit: i64,
) -> Result<JobMatches> {
    let (strands, from, to) = places(stretches);
    let rows: Vec<FoundRow> = sql!(
        "with s as (select * from unnest(:strands, :from, :to) as s(strand, a, b)),
         w as (select id, strand_id, ready_at, number,
                      row_number() over (partition by strand_id order by ready_at, number) - 1 as place
               from job where strand_id = any(:strands) and state = :pending and open and current_attempt is null)
         select w.id, count(*) over () as found
         from w join s on s.strand = w.strand_id and w.place >= s.a and (s.b is null or w.place < s.b)
         order by w.ready_at, w.number limit :limit";
        strands: Array<SqlUuid> = &strands,
        from: Array<Integer> = from,
        to: Array<Nullable<Integer>> = to,
        pending: Text = Db(JobState::Pending),
        limit: BigInt = limit,
    )
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
    let rows: Vec<Row> = sql!(
        "select id, row_number() over (partition by strand_id order by ready_at, number) - 1 as ahead
         from job where strand_id = any(:strands) and state = :pending and open and current_attempt is null";
        strands: Array<SqlUuid> = strands.iter().map(|id| id.0).collect::<Vec<_>>(),
        pending: Text = Db(JobState::Pending),
    )
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
    let row: Row = sql!(
        "select count(*) as jobs from job
         where strand_id = :strand_id and state = :pending and open and current_attempt is null
           and (ready_at, number) < (:ready_at, :number)";
        strand_id: SqlUuid = job.strand_id,
        pending: Text = Db(JobState::Pending),
        ready_at: Nullable<Timestamptz> = job.ready_at,
        number: BigInt = job.number,
    )
    .get_result(connection)
    .await?;
    Ok(row.jobs)
}
