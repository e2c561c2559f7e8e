//! Stints that are over and counted: the jobs behind a figure.

use crate::connect::Connection;
use crate::error::Result;
use crate::rollup::Kind;
use crate::statement::statement;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::Reason;
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Moment;
use uuid::Uuid;

/// Which stints: those that waited at some time in the window.
#[derive(Clone, Debug)]
pub struct Which {
    pub from: Moment,
    pub until: Moment,
    /// Those that waited for this, in part at least.
    pub reason: Option<Reason>,
    pub pool: Option<PoolId>,
    pub projects: Option<Vec<PlaceId>>,
    /// What sums they are behind: a requirement, a title, a runner, a supplier, an image.
    pub scope: (Kind, Vec<String>),
    pub limit: i64,
}

/// A stint, with the names of things.
#[derive(Clone, Debug, QueryableByName)]
pub struct Past {
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub pool: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub runner: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Timestamptz)]
    pub ended_at: Db<Moment>,
    #[diesel(sql_type = BigInt)]
    pub waited_us: i64,
    /// In the order of [`Reason::ALL`].
    #[diesel(sql_type = Array<BigInt>)]
    pub reasons: Vec<i64>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = BigInt)]
    pub processor_us: i64,
    #[diesel(sql_type = BigInt)]
    pub peak_memory: i64,
}

/// Those that waited longest: whole, or for the reason that is asked for.
pub async fn longest(connection: &mut Connection, which: &Which) -> Result<Vec<Past>> {
    let (kind, texts) = &which.scope;
    let ids = |wanted: Kind| -> Option<Vec<Uuid>> {
        (*kind == wanted).then(|| texts.iter().filter_map(|text| text.parse().ok()).collect())
    };
    let words = |wanted: Kind| (*kind == wanted).then(|| texts.clone());
    // Places of lists count from 1; 0 is for none.
    let reason = which.reason.and_then(|reason| {
        let place = Reason::ALL.iter().position(|one| *one == reason)?;
        i32::try_from(place + 1).ok()
    });
    let projects = which.projects.as_ref();
    let projects = projects.map(|all| all.iter().map(|id| id.0).collect::<Vec<_>>());
    Ok(statement(
        "select s.job_number, j.title, p.path as project, j.requirement, pool.name as pool, r.name as runner, s.ready_at,
                s.started_at, s.ended_at, s.waited_us, s.reasons, s.result, s.processor_us, s.peak_memory
         from (
           select * from stint
           where ready_at < $1
             and ready_at >= $2 - (select coalesce(max(waited_us), 0) from stint) * interval '1 microsecond'
             and ready_at + waited_us * interval '1 microsecond' > $3
             and ($4::integer = 0 or reasons[$5] > 0)
             and ($6::uuid is null or pool_id = $7)
             and ($8::uuid[] is null or project_id = any($9))
             and ($10::uuid[] is null or runner_id = any($11))
             and ($12::text[] is null or requirement in
                   (select id from rollup_key where kind = 4 and md5(text) in (select md5(w) from unnest($13) as w)))
             and ($14::text[] is null or title in
                   (select id from rollup_key where kind = 5 and md5(text) in (select md5(w) from unnest($15) as w)))
             and ($16::uuid[] is null or runner_id in (select runner_id from machine where supplier_id = any($17)))
           order by case when $18 = 0 then waited_us else reasons[$19] end desc limit $20) s
         join job j on j.id = s.job_id
         join place p on p.id = s.project_id
         left join pool on pool.id = s.pool_id
         left join runner r on r.id = s.runner_id
         order by case when $21 = 0 then s.waited_us else s.reasons[$22] end desc",
    )
    .bind::<Timestamptz, _>(Db(which.until))
    .bind::<Timestamptz, _>(Db(which.from))
    .bind::<Timestamptz, _>(Db(which.from))
    .bind::<Integer, _>(reason.unwrap_or(0))
    .bind::<Integer, _>(reason.unwrap_or(1))
    .bind::<Nullable<SqlUuid>, _>(which.pool.map(Db))
    .bind::<Nullable<SqlUuid>, _>(which.pool.map(Db))
    .bind::<Nullable<Array<SqlUuid>>, _>(projects.clone())
    .bind::<Nullable<Array<SqlUuid>>, _>(projects)
    .bind::<Nullable<Array<SqlUuid>>, _>(ids(Kind::Runner))
    .bind::<Nullable<Array<SqlUuid>>, _>(ids(Kind::Runner))
    .bind::<Nullable<Array<Text>>, _>(words(Kind::Requirement))
    .bind::<Nullable<Array<Text>>, _>(words(Kind::Requirement))
    .bind::<Nullable<Array<Text>>, _>(words(Kind::Title))
    .bind::<Nullable<Array<Text>>, _>(words(Kind::Title))
    .bind::<Nullable<Array<SqlUuid>>, _>(ids(Kind::Supplier))
    .bind::<Nullable<Array<SqlUuid>>, _>(ids(Kind::Supplier))
    .bind::<Integer, _>(reason.unwrap_or(0))
    .bind::<Integer, _>(reason.unwrap_or(1))
    .bind::<BigInt, _>(which.limit)
    .bind::<Integer, _>(reason.unwrap_or(0))
    .bind::<Integer, _>(reason.unwrap_or(1))
    .load(connection)
    .await?)
}
