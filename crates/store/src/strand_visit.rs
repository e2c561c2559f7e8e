//! Where a job was while it waited: in which strands, what was said there, and its place in line.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Jsonb, Timestamptz, Uuid as SqlUuid};
use pennine_core::dispatch::Segment;
use pennine_core::id::{JobId, StrandId};
use pennine_core::time::Moment;
use pennine_core::wait::{LinePosition, StrandStay, TimelineEntry};
use std::collections::{BTreeMap, HashMap};

/// A strand's timeline over a stretch: what held at its start, and every change within.
async fn timeline(
    connection: &mut Connection,
    id: StrandId,
    from: Moment,
    until: Moment,
) -> Result<Vec<TimelineEntry>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        since: Db<Moment>,
        #[diesel(sql_type = Jsonb)]
        segments: Json<Vec<Segment>>,
    }
    let rows: Vec<Row> = sql!(
        "(select since, segments from strand_reason
          where strand_id = :id and since <= :from order by since desc limit 1)
         union all
         (select since, segments from strand_reason
          where strand_id = :id and since > :from and since < :until order by since)";
        id: SqlUuid = Db(id),
        from: Timestamptz = Db(from),
        until: Timestamptz = Db(until),
    )
    .load(connection)
    .await?;
    let turn = |row: Row| TimelineEntry {
        since: row.since.0,
        segments: row.segments.0,
    };
    Ok(rows.into_iter().map(turn).collect())
}

/// Where a job stands in its strand's line: by when it first became ready, then by number.
#[derive(Clone, Copy, Debug)]
pub struct Queued {
    pub job: JobId,
    pub ready_at: Moment,
    pub number: i64,
}

/// The strands in which a job was between two moments, the last of them `strand`: each with what was said in it and,
/// where that depends on the place in line, how the job came forward.
pub async fn stays(
    connection: &mut Connection,
    who: Queued,
    strand: StrandId,
    from: Moment,
    until: Moment,
) -> Result<Vec<StrandStay>> {
    #[derive(QueryableByName)]
    struct Left {
        #[diesel(sql_type = SqlUuid)]
        strand_id: Db<StrandId>,
        #[diesel(sql_type = Timestamptz)]
        until: Db<Moment>,
    }
    let left: Vec<Left> = sql!(
        "select strand_id, until from strand_visit where job_id = :job and until > :from and until <= :until order by until";
        job: SqlUuid = Db(who.job),
        from: Timestamptz = Db(from),
        until: Timestamptz = Db(until),
    )
    .load(connection)
    .await?;
    let left = left.iter().map(|row| (row.strand_id.0, Some(row.until.0)));
    let mut stays = Vec::new();
    let mut at = from;
    for (strand, left) in left.chain([(strand, None)]) {
        let end = left.unwrap_or(until);
        let turns = timeline(connection, strand, at, end).await?;
        let line = match places(&turns) {
            0 => Vec::new(),
            places => line(connection, who, strand, (at, end), places).await?,
        };
        stays.push(StrandStay {
            until: left,
            turns,
            line,
        });
        at = end;
    }
    Ok(stays)
}

/// How a job came forward in a strand's line over a stretch: only the steps on which it stood among the first
/// `places`, or left or joined them.
async fn line(
    connection: &mut Connection,
    who: Queued,
    strand: StrandId,
    (from, until): (Moment, Moment),
    places: u32,
) -> Result<Vec<LinePosition>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Timestamptz)]
        since: Db<Moment>,
        #[diesel(sql_type = BigInt)]
        ahead: i64,
    }
    // Every stretch in which a job that comes first waited in this strand. An attempt's id tells when it was assigned.
    let rows: Vec<Row> = sql!(
        "with here as (select :strand::uuid as strand, :from::timestamptz as a, :until::timestamptz as b,
                              :ready_at::timestamptz as ready_at, :number::bigint as number),
         waits as (
           select t.job_id, t.ready_at as since, t.assigned_at as until
           from here, attempt t join job j on j.id = t.job_id
           where t.strand_id = here.strand and t.id >= first_uuid((here.a - interval '1 second') at time zone 'UTC')
             and t.assigned_at > here.a and t.ready_at < here.b
             and (j.ready_at, j.number) < (here.ready_at, here.number)
           union all
           select j.id, j.waits_since, null from here, job j
           where j.strand_id = here.strand and j.open and j.current_attempt is null
             and j.waits_since < here.b and (j.ready_at, j.number) < (here.ready_at, here.number)
           union all
           select j.id, j.waits_since, j.finished_at from here, job j
           where j.strand_id = here.strand and j.never_ran
             and j.finished_at > here.a and j.waits_since < here.b
             and (j.ready_at, j.number) < (here.ready_at, here.number)
           union all
           select j.id, j.ready_at, l.until from here, strand_visit l join job j on j.id = l.job_id
           where l.strand_id = here.strand and l.until > here.a
             and (j.ready_at, j.number) < (here.ready_at, here.number)),
         spans as (
           select greatest(w.since, here.a,
                    (select max(l.until) from strand_visit l
                     where l.job_id = w.job_id and (w.until is null or l.until < w.until)),
                    (select max(t.finished_at) from attempt t
                     where t.job_id = w.job_id and (w.until is null or t.finished_at < w.until))) as since,
                  least(w.until, here.b) as until
           from waits w, here),
         changes as (
           select at, sum(n) as n
           from (select since as at, 1 as n from spans where since < until
                 union all select until, -1 from spans, here where since < until and until < here.b) c
           group by at),
         places as (select at, sum(n) over (order by at) as ahead from changes)
         select at as since, ahead::bigint as ahead
         from (select at, ahead, lag(ahead, 1, 0) over (order by at) as before from places) p
         where ahead <= :ahead or before <= :ahead order by at";
        strand: SqlUuid = Db(strand),
        from: Timestamptz = Db(from),
        until: Timestamptz = Db(until),
        ready_at: Timestamptz = Db(who.ready_at),
        number: BigInt = who.number,
        ahead: BigInt = i64::from(places),
    )
    .load(connection)
    .await?;
    let step = |row: Row| LinePosition {
        since: row.since.0,
        ahead: u32::try_from(row.ahead.max(0)).unwrap_or(u32::MAX),
    };
    Ok(rows.into_iter().map(step).collect())
}

/// A query for the strands of a wait: the job, its last strand, and the period.
#[derive(Clone, Copy, Debug)]
pub struct WaitQuery {
    pub who: Queued,
    pub strand: StrandId,
    pub from: Moment,
    pub until: Moment,
}

/// The strands that these jobs left within a time, and when, in order of time.
async fn left_by_job(
    connection: &mut Connection,
    asked: &[WaitQuery],
    (first, last): (Moment, Moment),
) -> Result<HashMap<JobId, Vec<(StrandId, Moment)>>> {
    #[derive(QueryableByName)]
    struct Left {
        #[diesel(sql_type = SqlUuid)]
        job_id: Db<JobId>,
        #[diesel(sql_type = SqlUuid)]
        strand_id: Db<StrandId>,
        #[diesel(sql_type = Timestamptz)]
        until: Db<Moment>,
    }
    let jobs: Vec<Db<JobId>> = asked.iter().map(|one| Db(one.who.job)).collect();
    let left: Vec<Left> = sql!(
        "select job_id, strand_id, until from strand_visit
         where job_id = any(:jobs) and until > :first and until <= :last order by until";
        jobs: Array<SqlUuid> = &jobs,
        first: Timestamptz = Db(first),
        last: Timestamptz = Db(last),
    )
    .load(connection)
    .await?;
    let mut left_by: HashMap<JobId, Vec<(StrandId, Moment)>> = HashMap::new();
    for row in left {
        let all = left_by.entry(row.job_id.0).or_default();
        all.push((row.strand_id.0, row.until.0));
    }
    Ok(left_by)
}

/// A part of a wait: the strand, from when, and until when the job left it; no end where it did not.
type VisitPart = (StrandId, Moment, Option<Moment>);

/// A wait in its parts.
fn parts_of(one: &WaitQuery, left: &[(StrandId, Moment)]) -> Vec<VisitPart> {
    let within = |until: Moment| until > one.from && until <= one.until;
    let (mut at, mut parts) = (one.from, Vec::new());
    for (strand, until) in left.iter().filter(|(_, until)| within(*until)) {
        parts.push((*strand, at, Some(*until)));
        at = *until;
    }
    parts.push((one.strand, at, None));
    parts
}

/// As [`stays`], of many jobs at once: the strands' timelines are read once for all of them. How a job came forward in line
/// is looked up for the first `looked_up` for which it matters; the others count as the last in line.
pub async fn many(
    connection: &mut Connection,
    asked: &[WaitQuery],
    looked_up: usize,
) -> Result<Vec<Vec<StrandStay>>> {
    let (Some(first), Some(last)) = (
        asked.iter().map(|one| one.from).min(),
        asked.iter().map(|one| one.until).max(),
    ) else {
        return Ok(Vec::new());
    };
    let left_by = left_by_job(connection, asked, (first, last)).await?;
    let mut pieces: Vec<Vec<VisitPart>> = Vec::with_capacity(asked.len());
    let mut needed: BTreeMap<StrandId, (Moment, Moment)> = BTreeMap::new();
    for one in asked {
        let left = left_by.get(&one.who.job).map(Vec::as_slice);
        let mine = parts_of(one, left.unwrap_or_default());
        for (strand, from, until) in &mine {
            let until = until.unwrap_or(one.until);
            let range = needed.entry(*strand).or_insert((*from, until));
            *range = (range.0.min(*from), range.1.max(until));
        }
        pieces.push(mine);
    }
    let timelines = timelines(connection, &needed).await?;
    let mut left_to_look_up = looked_up;
    let mut all = Vec::with_capacity(asked.len());
    for (one, pieces) in asked.iter().zip(pieces) {
        let mut stays = Vec::with_capacity(pieces.len());
        for (strand, from, left) in pieces {
            let end = left.unwrap_or(one.until);
            let whole = timelines
                .get(&strand)
                .map(Vec::as_slice)
                .unwrap_or_default();
            let begin = whole
                .partition_point(|turn| turn.since <= from)
                .saturating_sub(1);
            let turns: Vec<TimelineEntry> = whole
                .iter()
                .skip(begin)
                .take_while(|turn| turn.since < end || turn.since <= from)
                .cloned()
                .collect();
            let line = match places(&turns) {
                0 => Vec::new(),
                _ if left_to_look_up == 0 => vec![LinePosition {
                    since: from,
                    ahead: u32::MAX,
                }],
                places => {
                    left_to_look_up -= 1;
                    line(connection, one.who, strand, (from, end), places).await?
                }
            };
            stays.push(StrandStay {
                until: left,
                turns,
                line,
            });
        }
        all.push(stays);
    }
    Ok(all)
}

/// How many places in line a timeline speaks of.
fn places(turns: &[TimelineEntry]) -> u32 {
    let of = |turn: &TimelineEntry| turn.segments.iter().filter_map(|s| s.jobs).sum();
    turns.iter().map(of).max().unwrap_or(0)
}

/// The timelines of these strands, each over its stretch.
async fn timelines(
    connection: &mut Connection,
    needed: &BTreeMap<StrandId, (Moment, Moment)>,
) -> Result<HashMap<StrandId, Vec<TimelineEntry>>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        strand: Db<StrandId>,
        #[diesel(sql_type = Timestamptz)]
        since: Db<Moment>,
        #[diesel(sql_type = Jsonb)]
        segments: Json<Vec<Segment>>,
    }
    let rows: Vec<Row> = sql!(
        "select w.strand, r.since, r.segments
         from unnest(:strands, :froms, :untils) as w(strand, a, b) cross join lateral (
           (select since, segments from strand_reason
            where strand_id = w.strand and since <= w.a order by since desc limit 1)
           union all
           (select since, segments from strand_reason
            where strand_id = w.strand and since > w.a and since < w.b)) r
         order by w.strand, r.since";
        strands: Array<SqlUuid> = needed.keys().map(|id| Db(*id)).collect::<Vec<_>>(),
        froms: Array<Timestamptz> = needed
            .values()
            .map(|(from, _)| Db(*from))
            .collect::<Vec<_>>(),
        untils: Array<Timestamptz> = needed
            .values()
            .map(|(_, until)| Db(*until))
            .collect::<Vec<_>>(),
    )
    .load(connection)
    .await?;
    let mut all: HashMap<StrandId, Vec<TimelineEntry>> = HashMap::new();
    for row in rows {
        all.entry(row.strand.0).or_default().push(TimelineEntry {
            since: row.since.0,
            segments: row.segments.0,
        });
    }
    Ok(all)
}
