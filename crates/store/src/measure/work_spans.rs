//! Work spans of jobs: read from the record, split by why they waited, and added.

use super::sums_of;
use crate::connect::Connection;
use crate::error::Result;
use crate::rollup::{KeyCache, RollupKey, Sums};
use crate::statement::sql;
use crate::strand_visit::{self, Queued, WaitQuery};
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::dispatch::Reason;
use pennine_core::id::{JobId, PlaceId, PoolId, RunnerId, StrandId, SupplierId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::WorkSpan;
use pennine_core::time::Moment;
use pennine_core::wait::{StrandStay, split};
use uuid::Uuid;

/// A work span as the record has it.
#[derive(Clone, Debug, QueryableByName)]
pub struct Row {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    pub job_id: Db<JobId>,
    #[diesel(sql_type = BigInt)]
    pub job_number: i64,
    #[diesel(sql_type = SqlUuid)]
    pub project_id: Db<PlaceId>,
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub pool_id: Option<Db<PoolId>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub runner_id: Option<Db<RunnerId>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub supplier_id: Option<Db<SupplierId>>,
    #[diesel(sql_type = Text)]
    pub image: String,
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Text)]
    pub title: String,
    /// When the job first became ready: its place in line.
    #[diesel(sql_type = Timestamptz)]
    pub queued_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub assigned_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub started_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub exited_at: Option<Db<Moment>>,
    /// When it was over; none while it is not.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub result: Option<Db<Outcome>>,
    #[diesel(sql_type = Bool)]
    pub lost: bool,
    /// Whether it waited elsewhere, for reasons that are not on record.
    #[diesel(sql_type = Bool)]
    pub imported: bool,
    #[diesel(sql_type = BigInt)]
    pub processor_us: i64,
    #[diesel(sql_type = BigInt)]
    pub peak_memory: i64,
}

/// The columns of [`Row`]: of attempts, and of waits that led to none.
macro_rules! work_spans {
    ($attempts:literal, $waits:literal) => {
        concat!(
            "select a.id, a.job_id, j.number as job_number, j.project_id, a.strand_id, a.pool_id, a.runner_id,
                    m.supplier_id, coalesce(pp.supply ->> 'image', '') as image, j.requirement, j.title,
                    coalesce(j.ready_at, j.created_at) as queued_at, a.ready_at, a.assigned_at, a.started_at,
                    a.exited_at, a.finished_at as ended_at,
                    case when j.current_attempt = a.id then j.result end as result,
                    not a.open and not a.accepted as lost, coalesce(a.processor_us, 0) as processor_us,
                    coalesce(a.peak_memory, 0) as peak_memory, a.imported
             from attempt a join job j on j.id = a.job_id
             left join lateral (select supplier_id from machine m where m.runner_id = a.runner_id limit 1) m on true
             left join pool_policy pp on pp.pool_id = a.pool_id and pp.version = a.policy_version
             where ", $attempts, "
             union all
             select j.id, j.id, j.number, j.project_id, j.strand_id, null, null, null, '', j.requirement, j.title,
                    coalesce(j.ready_at, j.created_at), j.waits_since, null, null, null, j.finished_at, j.result,
                    false, 0, 0, false
             from job j where j.waits_since is not null and ", $waits
        )
    };
}

/// Of these attempts and jobs, the work spans that are over and not counted.
pub async fn uncounted(
    connection: &mut Connection,
    attempts: &[Uuid],
    jobs: &[Uuid],
) -> Result<Vec<Row>> {
    Ok(sql!(
        work_spans!(
        "a.id = any(:attempts) and not a.open
           and not exists (select from work_span s where s.id = a.id and s.ready_at = a.ready_at)",
        "j.id = any(:jobs) and j.never_ran
           and not exists (select from work_span s where s.id = j.id and s.ready_at = j.waits_since)"
    );
        attempts: Array<SqlUuid> = attempts,
        jobs: Array<SqlUuid> = jobs,
    )
    .load(connection)
    .await?)
}

/// Returns the finished work spans of the next `limit` jobs after a given one, in order of submission, and the last of these
/// jobs.
pub async fn over_after(
    connection: &mut Connection,
    after: Uuid,
    jobs: i64,
) -> Result<(Vec<Row>, Option<Uuid>)> {
    #[derive(QueryableByName)]
    struct Id {
        #[diesel(sql_type = SqlUuid)]
        id: Uuid,
    }
    let ids: Vec<Id> = sql!(
        "select id from job where id > :after order by id limit :jobs";
        after: SqlUuid = after,
        jobs: BigInt = jobs,
    )
    .load(connection)
    .await?;
    let ids: Vec<Uuid> = ids.into_iter().map(|row| row.id).collect();
    let last = ids.last().copied();
    let rows = sql!(
        work_spans!(
        "a.job_id = any(:ids) and not a.open",
        "j.id = any(:ids) and j.never_ran"
    );
        ids: Array<SqlUuid> = &ids,
    )
    .load(connection)
    .await?;
    Ok((rows, last))
}

/// Returns the open work spans: open attempts and waiting jobs, in the order in which they became ready.
pub async fn open_work_spans(connection: &mut Connection) -> Result<Vec<Row>> {
    Ok(sql!(work_spans!(
        "a.open",
        "j.open and j.current_attempt is null order by ready_at"
    ))
    .load(connection)
    .await?)
}

/// A title in which each number is a `#`, so that what is built over and over has one name.
pub fn plain_title(title: &str) -> String {
    let mut plain = String::with_capacity(title.len());
    let mut number = false;
    for c in title.chars() {
        if c.is_ascii_digit() {
            if !number {
                plain.push('#');
            }
            number = true;
        } else {
            plain.push(c);
            number = false;
        }
    }
    plain
}

impl Row {
    /// What its sums are kept by.
    pub fn keys(&self) -> Vec<RollupKey> {
        let project = self.project_id.0;
        let mut keys = vec![
            RollupKey::Yard,
            RollupKey::Project(project),
            self.requirement_key(),
            self.title_key(),
        ];
        if let Some(pool) = self.pool_id {
            let pool = pool.0;
            keys.push(RollupKey::PoolProject { pool, project });
            keys.push(RollupKey::Pool(pool));
        }
        keys.extend(self.runner_id.map(|id| RollupKey::Runner(id.0)));
        keys.extend(self.supplier_id.map(|id| RollupKey::Supplier(id.0)));
        if !self.image.is_empty() {
            keys.push(RollupKey::Image(self.image.clone()));
        }
        keys
    }

    /// The key of the part of its wait that was for a reason.
    fn reason_key(&self, reason: Reason) -> Option<RollupKey> {
        let pool = self.pool_id?.0;
        Some(RollupKey::PoolReason { pool, reason })
    }

    fn requirement_key(&self) -> RollupKey {
        RollupKey::Requirement(self.requirement.clone())
    }

    fn title_key(&self) -> RollupKey {
        RollupKey::Title {
            project: self.project_id.0,
            title: plain_title(&self.title),
        }
    }

    /// When the wait was over, or is cut off.
    fn waited_until(&self, now: Moment) -> Moment {
        self.started_at.or(self.ended_at).map_or(now, |at| at.0)
    }
}

/// The work spans with their waits split; what goes on is cut off at `now`. For how many the way forward in line is looked up,
/// [`strand_visit::many`] says.
pub async fn split_all(
    connection: &mut Connection,
    rows: &[Row],
    now: Moment,
    looked_up: usize,
) -> Result<Vec<WorkSpan>> {
    let asked: Vec<WaitQuery> = rows
        .iter()
        .map(|row| WaitQuery {
            who: Queued {
                job: row.job_id.0,
                ready_at: row.queued_at.0,
                number: row.job_number,
            },
            strand: row.strand_id.0,
            from: row.ready_at.0,
            until: row
                .assigned_at
                .map_or_else(|| row.waited_until(now), |at| at.0),
        })
        .collect();
    let stays = strand_visit::many(connection, &asked, looked_up).await?;
    let count = |number: i64| number.max(0).unsigned_abs();
    let work_spans = rows.iter().zip(stays).map(|(row, stays)| {
        let stays = if row.imported {
            vec![StrandStay::unknown(row.ready_at.0)]
        } else {
            stays
        };
        let waited_until = row.waited_until(now).max(row.ready_at.0);
        let assigned = row.assigned_at.map(|at| at.0);
        WorkSpan {
            ready: row.ready_at.0,
            wait: split(row.ready_at.0, assigned, waited_until, &stays),
            waited_until,
            assigned,
            started: row.started_at.map(|at| at.0),
            exited: row.exited_at.map(|at| at.0),
            ended: row.ended_at.map_or(now, |at| at.0).max(waited_until),
            result: row.result.map(|result| result.0),
            lost: row.lost,
            processor: count(row.processor_us),
            peak_memory: count(row.peak_memory),
        }
    });
    Ok(work_spans.collect())
}

/// Work spans that are ready to be added: what they come to together with what is kept.
pub struct PreparedSums {
    rows: Vec<Row>,
    work_spans: Vec<WorkSpan>,
    /// The numbers of each one's requirement and title.
    words: Vec<(i64, i64)>,
    sums: Sums,
}

/// Computes the sums of finished work spans that were not counted yet. This takes long and holds no lock: the caller that adds
/// them checks that no other writer has added any since.
pub async fn prepare_sums(
    connection: &mut Connection,
    known: &mut KeyCache,
    rows: Vec<Row>,
) -> Result<PreparedSums> {
    let work_spans = split_all(connection, &rows, Moment::default(), usize::MAX).await?;
    let parts = rows.iter().zip(&work_spans).flat_map(|(row, work_span)| {
        let whole = (row.keys(), None);
        let reasons = work_span.reasons().into_keys();
        let reasons =
            reasons.filter_map(|reason| Some((vec![row.reason_key(reason)?], Some(reason))));
        let parts = std::iter::once(whole).chain(reasons);
        parts.map(move |(keys, reason)| {
            let cells = move |resolution| match reason {
                None => work_span.cells(resolution),
                Some(reason) => work_span.reason_cells(reason, resolution),
            };
            (keys, cells)
        })
    });
    let mut sums = sums_of(connection, known, parts).await?;
    sums.add_kept(connection).await?;
    let words = rows
        .iter()
        .flat_map(|row| [row.requirement_key(), row.title_key()]);
    let numbers = known.numbers(connection, words).await?;
    let number = |key: &RollupKey| numbers.get(key).copied().unwrap_or(0);
    let words: Vec<(i64, i64)> = rows
        .iter()
        .map(|row| (number(&row.requirement_key()), number(&row.title_key())))
        .collect();
    Ok(PreparedSums {
        rows,
        work_spans,
        words,
        sums,
    })
}

impl PreparedSums {
    /// Adds them.
    pub async fn add(self, connection: &mut Connection) -> Result<()> {
        if self.rows.is_empty() {
            return Ok(());
        }
        self.sums.put(connection).await?;
        store_spans(connection, &self.rows, &self.work_spans, &self.words).await
    }
}

/// Adds work spans that are over and were not counted.
pub async fn add_work_spans(
    connection: &mut Connection,
    known: &mut KeyCache,
    rows: Vec<Row>,
) -> Result<()> {
    prepare_sums(connection, known, rows)
        .await?
        .add(connection)
        .await
}

/// Keeps that these were counted, for who looks for the jobs behind a sum.
async fn store_spans(
    connection: &mut Connection,
    rows: &[Row],
    work_spans: &[WorkSpan],
    words: &[(i64, i64)],
) -> Result<()> {
    let small = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
    // A list of lists has to be even: each work span's reasons come one after the other.
    let reasons: Vec<i64> = work_spans
        .iter()
        .flat_map(|work_span| {
            Reason::ALL.iter().map(|reason| {
                let mine = work_span.wait.iter().filter(|span| span.reason == *reason);
                small(mine.map(|span| span.length_us.0).sum())
            })
        })
        .collect();
    let of = i32::try_from(Reason::ALL.len()).unwrap_or(0);
    sql!(
        "insert into work_span (id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at,
                            waited_us, reasons, assigned_at, started_at, exited_at, ended_at, result, lost, processor_us,
                            peak_memory)
         select w.id, w.job_id, w.job_number, w.project_id, w.pool_id, w.runner_id, w.requirement, w.title, w.ready_at,
                w.waited_us, (:reasons::bigint[])[(w.n - 1) * :of + 1 : w.n * :of], w.assigned_at, w.started_at, w.exited_at,
                w.ended_at, w.result, w.lost, w.processor_us, w.peak_memory
         from unnest(:ids::uuid[], :job_ids::uuid[], :job_numbers::bigint[], :project_ids::uuid[], :pool_ids::uuid[], :runner_ids::uuid[], :requirements::bigint[],
                     :titles::bigint[], :ready_ats::timestamptz[], :waits::bigint[], :assigned_ats::timestamptz[], :started_ats::timestamptz[],
                     :exited_ats::timestamptz[], :ended_ats::timestamptz[], :results::text[], :lost::boolean[], :processor_us::bigint[], :peak_memory::bigint[])
              with ordinality
           as w(id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at, waited_us,
                assigned_at, started_at, exited_at, ended_at, result, lost, processor_us, peak_memory, n)";
        reasons: Array<BigInt> = reasons,
        of: Integer = of,
        ids: Array<SqlUuid> = rows.iter().map(|row| row.id).collect::<Vec<_>>(),
        job_ids: Array<SqlUuid> = rows.iter().map(|row| row.job_id).collect::<Vec<_>>(),
        job_numbers: Array<BigInt> = rows.iter().map(|row| row.job_number).collect::<Vec<_>>(),
        project_ids: Array<SqlUuid> = rows.iter().map(|row| row.project_id).collect::<Vec<_>>(),
        pool_ids: Array<Nullable<SqlUuid>> = rows.iter().map(|row| row.pool_id).collect::<Vec<_>>(),
        runner_ids: Array<Nullable<SqlUuid>> = rows.iter().map(|row| row.runner_id).collect::<Vec<_>>(),
        requirements: Array<BigInt> = words.iter().map(|(requirement, _)| *requirement).collect::<Vec<_>>(),
        titles: Array<BigInt> = words.iter().map(|(_, title)| *title).collect::<Vec<_>>(),
        ready_ats: Array<Timestamptz> = rows.iter().map(|row| row.ready_at).collect::<Vec<_>>(),
        waits: Array<BigInt> = work_spans.iter().map(|work_span| small(work_span.waited())).collect::<Vec<_>>(),
        assigned_ats: Array<Nullable<Timestamptz>> = rows.iter().map(|row| row.assigned_at).collect::<Vec<_>>(),
        started_ats: Array<Nullable<Timestamptz>> = rows.iter().map(|row| row.started_at).collect::<Vec<_>>(),
        exited_ats: Array<Nullable<Timestamptz>> = rows.iter().map(|row| row.exited_at).collect::<Vec<_>>(),
        ended_ats: Array<Timestamptz> = work_spans.iter().map(|work_span| Db(work_span.ended)).collect::<Vec<_>>(),
        results: Array<Nullable<Text>> = rows.iter().map(|row| row.result).collect::<Vec<_>>(),
        lost: Array<Bool> = rows.iter().map(|row| row.lost).collect::<Vec<_>>(),
        processor_us: Array<BigInt> = rows.iter().map(|row| row.processor_us).collect::<Vec<_>>(),
        peak_memory: Array<BigInt> = rows.iter().map(|row| row.peak_memory).collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::plain_title;

    #[test]
    fn titles_that_differ_only_in_numbers_are_equal() {
        assert_eq!(plain_title("tide table 3 of 14"), "tide table # of #");
        assert_eq!(plain_title("v2.10"), "v#.#");
        assert_eq!(plain_title("build and test"), "build and test");
    }
}
