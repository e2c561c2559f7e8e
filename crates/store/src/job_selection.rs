//! Selections of many jobs by their place and their requirement, read from the record.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Nullable, Text, Uuid as SqlUuid};
use pennine_core::id::JobId;
use pennine_core::lifecycle::job::JobState;

/// What a filter found: the first jobs, and how many there are in all.
#[derive(Clone, Debug, Default)]
pub struct JobMatches {
    pub ids: Vec<JobId>,
    pub all: u64,
}

#[derive(QueryableByName)]
pub(crate) struct FoundRow {
    #[diesel(sql_type = SqlUuid)]
    id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    found: i64,
}

impl FromIterator<FoundRow> for JobMatches {
    fn from_iter<I: IntoIterator<Item = FoundRow>>(rows: I) -> Self {
        let mut found = JobMatches::default();
        for row in rows {
            found.all = row.found.max(0).unsigned_abs();
            found.ids.push(row.id.0);
        }
        found
    }
}

/// The condition that a `job` called `j` waits for a runner, at a place and with a requirement, where these are given.
macro_rules! waits {
    () => {
        " where j.state = :pending and j.open and j.current_attempt is null
            and (:place::text is null or j.project_id in (
                   select id from place where path = :place or :place = '' or starts_with(path, :place || '/')))
            and (:requirement::text is null or j.strand_id in (select id from strand where key->>'requirement' = :requirement))"
    };
}

pub(crate) use waits;

/// Returns the jobs that wait for a runner, whatever the reason, and that became ready first. This is the record itself: a job is
/// among them from the moment in which its submission was answered.
pub async fn waiting(
    connection: &mut Connection,
    place: Option<&str>,
    requirement: Option<&str>,
    limit: i64,
) -> Result<JobMatches> {
    let rows: Vec<FoundRow> = sql!(
        "select j.id, count(*) over () as found from job j"
        waits!()
        " order by j.ready_at, j.number limit :limit";
        place: Nullable<Text> = place,
        requirement: Nullable<Text> = requirement,
        pending: Text = Db(JobState::Pending),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().collect())
}

/// The jobs that ended without success and were not retried, oldest first: of a place and what is below it, with a
/// requirement in its normal form.
pub async fn failed(
    connection: &mut Connection,
    place: Option<&str>,
    requirement: Option<&str>,
    limit: i64,
) -> Result<JobMatches> {
    let rows: Vec<FoundRow> = sql!(
        "select j.id, count(*) over () as found
         from job j join place p on p.id = j.project_id join strand s on s.id = j.strand_id
         where j.result <> 'success' and j.retried_as is null
           and (:place::text is null or :place = '' or p.path = :place or starts_with(p.path, :place || '/'))
           and (:requirement::text is null or s.key->>'requirement' = :requirement)
         order by j.number limit :limit";
        place: Nullable<Text> = place,
        requirement: Nullable<Text> = requirement,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().collect())
}
