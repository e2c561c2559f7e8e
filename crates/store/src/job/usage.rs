//! What the attempts of a job and of jobs like it used.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Jsonb, Nullable, Text, Timestamptz};
use pennine_core::fact::Facts;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::{Micros, Moment};

/// What one attempt used, and the facts of its machine at its time.
#[derive(Clone, Debug, QueryableByName)]
pub struct UsageRow {
    #[diesel(sql_type = Timestamptz)]
    pub started_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub exited_at: Db<Moment>,
    #[diesel(sql_type = BigInt)]
    pub processor_us: Db<Micros>,
    #[diesel(sql_type = BigInt)]
    pub peak_memory: i64,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub bytes_read: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub bytes_written: Option<i64>,
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub facts: Option<Json<Facts>>,
}

/// The accepted attempts of the last jobs of a project with a title that have succeeded, up to a job number, the last first. Looks at
/// the last 50,000 numbers at most.
pub async fn recent_usage(
    connection: &mut Connection,
    project: &str,
    title: &str,
    number: i64,
    limit: i64,
) -> Result<Vec<UsageRow>> {
    Ok(sql!(
        "select a.started_at, a.exited_at, a.processor_us, a.peak_memory, a.bytes_read, a.bytes_written, f.facts
         from job j join place p on p.id = j.project_id
              join attempt a on a.job_id = j.id
              left join runner_facts f on f.runner_id = a.runner_id and f.version = a.facts_version
         where p.path = :project and j.title = :title and j.number <= :number and j.number > :number - 50000
               and j.result = :success and a.accepted and a.started_at is not null and a.exited_at is not null
               and a.processor_us is not null and a.peak_memory is not null
         order by j.number desc limit :limit";
        project: Text = project,
        title: Text = title,
        number: BigInt = number,
        success: Text = Db(Outcome::Success),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}
