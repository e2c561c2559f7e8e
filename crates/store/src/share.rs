//! What projects use: slots held now, and slot-time used recently.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Double, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::time::Moment;
use std::time::Duration;
use uuid::Uuid;

/// After this many half-lives, use no longer counts.
const FORGOTTEN_AFTER: u32 = 12;

/// What a project holds.
#[derive(Clone, Debug, QueryableByName)]
pub struct ProjectUsage {
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = BigInt)]
    pub slots: i64,
}

/// Slots that each project holds now.
pub async fn held(connection: &mut Connection) -> Result<Vec<ProjectUsage>> {
    Ok(sql!(
        "select p.path as project, count(*) as slots from attempt a join job j on j.id = a.job_id
         join place p on p.id = j.project_id where a.open group by p.path"
    )
    .load(connection)
    .await?)
}

/// What a project used.
#[derive(Clone, Debug, QueryableByName)]
pub struct Used {
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Double)]
    pub seconds: f64,
}

/// Slot-time of attempts that are over, as it counts at this moment: each second half as much for each half-life that
/// has passed since.
pub async fn used(
    connection: &mut Connection,
    half_life: Duration,
    at: Moment,
) -> Result<Vec<Used>> {
    let forgotten = at - half_life * FORGOTTEN_AFTER * 2;
    let millis = u64::try_from(forgotten.micros().max(0) / 1000).unwrap_or(0);
    // Ids begin with their time, by which history is partitioned.
    let oldest = Uuid::from_u128(u128::from(millis) << 80);
    let half_life = half_life.as_secs_f64();
    Ok(sql!(
        "select p.path as project,
                sum(:half_life::float8 / ln(2.0)::float8 *
                    (power(2::float8, -extract(epoch from :at - a.finished_at)::float8 / :half_life) -
                     power(2::float8, -extract(epoch from :at - a.assigned_at)::float8 / :half_life))) as seconds
         from attempt a join job j on j.id = a.job_id join place p on p.id = j.project_id
         where a.state = 'done' and a.id >= :oldest and a.finished_at >= a.assigned_at and a.finished_at <= :at
         group by p.path";
        half_life: Double = half_life,
        at: Timestamptz = Db(at),
        oldest: SqlUuid = oldest,
    )
    .load(connection)
    .await?)
}
