//! The waiting jobs strand by strand, in the parts that have one reason: what is shown of the queue. The leader writes what changes;
//! every replica reads. It is behind the queue by the time of one write (see `leader/waiting_lines.rs`).

use crate::connect::Connection;
use crate::error::Result;
use crate::leadership::Epoch;
use crate::line::TimelineSpan;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::dispatch::{self, LineChange, LinePart, Reason, StrandKey};
use pennine_core::id::{PlaceId, ReplicaId, StrandId};
use pennine_core::time::Moment;

/// The columns of a [`ShownPart`], from a `waiting_line` called `w`. Looked up row by row: a plan for any number of rows would read all
/// strands for a few of them. Both are null for a strand or a project that is gone.
macro_rules! shown_part {
    () => {
        "w.strand_id, w.part, w.reason, w.cause, w.jobs, w.oldest, w.first,
         (select key from strand where id = w.strand_id) as key,
         (select path from place where id = w.project_id) as project"
    };
}

type Part<'a> = (&'a LineChange, i32, &'a LinePart);

/// The condition of a [`LineFilter`] on a `waiting_line` called `w`.
macro_rules! matching {
    () => {
        " where (:place::text is null or w.project_id in (
                   select id from place where path = :place or :place = '' or starts_with(path, :place || '/')))
            and (:visible::text[] is null or w.project_id in (select id from place where is_below_any(path, :visible)))
            and (:requirement::text is null or w.requirement = :requirement)
            and (:reason::text is null or w.reason = :reason)
            and (:cause::text is null or w.cause = :cause)"
    };
}

pub(crate) use matching;

fn of_lines<T>(lines: &[LineChange], value: impl Fn(&LineChange) -> T) -> Vec<T> {
    lines.iter().map(value).collect()
}

fn of_parts<T>(parts: &[Part<'_>], value: impl Fn(&LineChange, &LinePart) -> T) -> Vec<T> {
    let parts = parts.iter();
    parts.map(|(line, _, part)| value(line, part)).collect()
}

/// What is known of the groups.
#[derive(Clone, Debug)]
pub enum GroupChange {
    /// Nothing yet: what an earlier leader wrote stays.
    Unknown,
    /// All of them: others are gone.
    All(Vec<dispatch::LineGroup>),
    /// The groups that have changed; one without jobs is gone.
    Some(Vec<dispatch::LineGroup>),
}

impl GroupChange {
    fn of_each<T>(&self, value: impl Fn(&dispatch::LineGroup) -> T) -> Vec<T> {
        match self {
            GroupChange::Unknown => Vec::new(),
            GroupChange::All(groups) | GroupChange::Some(groups) => {
                groups.iter().map(value).collect()
            }
        }
    }
}

fn large(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

fn number(count: usize) -> i32 {
    i32::try_from(count).unwrap_or(i32::MAX)
}

/// Writes how the lines of some strands are now, and what has changed in the groups. False, and nothing written, when another replica
/// leads by now.
pub async fn write(
    connection: &mut Connection,
    (leader, epoch): (ReplicaId, Epoch),
    at: Moment,
    changes: &[LineChange],
    groups: &GroupChange,
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        fenced: i64,
    }
    let parts: Vec<Part<'_>> = changes
        .iter()
        .flat_map(|line| {
            let parts = line.parts.iter().enumerate();
            parts.map(move |(n, part)| (line, number(n), part))
        })
        .collect();
    let row: Row = sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share),
              gone as (
                delete from waiting_line w using unnest(:strands, :counts) as s(strand, parts), fence
                where w.strand_id = s.strand and w.part >= s.parts),
              kept as (
                insert into waiting_line (strand_id, part, epoch, project_id, requirement, reason, cause, jobs, oldest, first,
                                          place)
                select strand, part, epoch, project, requirement, reason, cause, jobs, oldest, first, place
                from unnest(:line_strands, :line_parts, :projects, :requirements, :reasons, :causes, :jobs, :oldest, :first,
                            :places)
                  as l(strand, part, project, requirement, reason, cause, jobs, oldest, first, place), fence
                on conflict (strand_id, part) do update
                set epoch = excluded.epoch, project_id = excluded.project_id, requirement = excluded.requirement,
                    reason = excluded.reason, cause = excluded.cause, jobs = excluded.jobs, oldest = excluded.oldest,
                    first = excluded.first, place = excluded.place),
              outdated as (
                delete from waiting_group g using fence where :are_all and not exists (
                  select from unnest(:group_projects, :group_reasons, :group_causes) as n(project, reason, cause)
                  where n.project = g.project_id and n.reason = g.reason and n.cause = g.cause)),
              emptied as (
                delete from waiting_group g using unnest(:group_projects, :group_reasons, :group_causes, :group_jobs)
                  as n(project, reason, cause, jobs), fence
                where n.project = g.project_id and n.reason = g.reason and n.cause = g.cause and n.jobs = 0),
              summed as (
                insert into waiting_group (project_id, reason, cause, jobs, strands, oldest)
                select project, reason, cause, jobs, strands, oldest
                from unnest(:group_projects, :group_reasons, :group_causes, :group_jobs, :group_strands, :group_oldest)
                  as n(project, reason, cause, jobs, strands, oldest), fence
                where jobs > 0
                on conflict (project_id, reason, cause) do update
                set jobs = excluded.jobs, strands = excluded.strands, oldest = excluded.oldest),
              told as ("
            change QueueChanged { leader: ":leader" } at ":at" from "fence"
        ")
         select count(*) as fenced from fence";
        epoch: BigInt = epoch.0,
        strands: Array<SqlUuid> = of_lines(changes, |line| line.strand.0),
        counts: Array<Integer> = of_lines(changes, |line| number(line.parts.len())),
        line_strands: Array<SqlUuid> = of_parts(&parts, |line, _| line.strand.0),
        line_parts: Array<Integer> = parts.iter().map(|(_, n, _)| *n).collect::<Vec<i32>>(),
        projects: Array<SqlUuid> = of_parts(&parts, |line, _| line.project.0),
        requirements: Array<Text> = of_parts(&parts, |line, _| line.requirement.clone()),
        reasons: Array<Text> = of_parts(&parts, |_, part| part.reason.to_string()),
        causes: Array<Text> = of_parts(&parts, |_, part| part.cause.clone()),
        jobs: Array<BigInt> = of_parts(&parts, |_, part| i64::from(part.jobs)),
        oldest: Array<Timestamptz> = of_parts(&parts, |_, part| Db(part.oldest)),
        first: Array<BigInt> = of_parts(&parts, |_, part| part.first),
        places: Array<BigInt> = of_parts(&parts, |_, part| i64::from(part.from)),
        are_all: Bool = matches!(groups, GroupChange::All(_)),
        group_projects: Array<SqlUuid> = groups.of_each(|group| group.project.0),
        group_reasons: Array<Text> = groups.of_each(|group| group.reason.to_string()),
        group_causes: Array<Text> = groups.of_each(|group| group.cause.clone()),
        group_jobs: Array<BigInt> = groups.of_each(|group| large(group.jobs)),
        group_strands: Array<BigInt> = groups.of_each(|group| large(group.strands)),
        group_oldest: Array<Timestamptz> = groups.of_each(|group| Db(group.oldest)),
        leader: SqlUuid = Db(leader),
        at: Timestamptz = Db(at),
    )
    .get_result(connection)
    .await?;
    Ok(row.fenced == 1)
}

/// Forgets what earlier leaders wrote and this one did not.
pub async fn forget_earlier(connection: &mut Connection, epoch: Epoch) -> Result<()> {
    sql!(
        "with fence as materialized (select epoch from leadership where epoch = :epoch for share)
         delete from waiting_line w using fence where w.epoch <> fence.epoch";
        epoch: BigInt = epoch.0,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Which part of the queue is meant: all conditions that are given.
#[derive(Clone, Debug, Default)]
pub struct LineFilter {
    /// The path of a team or a project.
    pub place: Option<String>,
    /// Only what is at these places and below them; everything if there is no list.
    pub visible: Option<Vec<String>>,
    /// The requirement, as it is stored.
    pub requirement: Option<String>,
    pub reason: Option<Reason>,
    pub cause: Option<String>,
}

impl LineFilter {
    /// Whether the filter asks why jobs wait. Only the leader knows that, and what it has written is behind the record.
    pub fn is_by_reason(&self) -> bool {
        self.reason.is_some() || self.cause.is_some()
    }
}

/// Waiting jobs with one reason and cause.
#[derive(Clone, Debug, QueryableByName)]
pub struct LineGroup {
    #[diesel(sql_type = Text)]
    pub reason: Db<Reason>,
    #[diesel(sql_type = Text)]
    pub cause: String,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
    #[diesel(sql_type = BigInt)]
    pub strands: i64,
    /// Since when the one that waits longest has waited.
    #[diesel(sql_type = Timestamptz)]
    pub oldest: Db<Moment>,
}

/// Returns the groups of waiting jobs, the longest wait first.
pub async fn groups(connection: &mut Connection, filter: &LineFilter) -> Result<Vec<LineGroup>> {
    if filter.requirement.is_none() {
        return Ok(sql!(
            "select w.reason, w.cause, sum(w.jobs)::bigint as jobs, sum(w.strands)::bigint as strands, min(w.oldest) as oldest
             from waiting_group w
             where (:place::text is null or w.project_id in (
                     select id from place where path = :place or :place = '' or starts_with(path, :place || '/')))
               and (:visible::text[] is null or w.project_id in (select id from place where is_below_any(path, :visible)))
               and (:reason::text is null or w.reason = :reason) and (:cause::text is null or w.cause = :cause)
             group by w.reason, w.cause order by oldest, w.reason, w.cause";
            place: Nullable<Text> = filter.place.clone(),
            visible: Nullable<Array<Text>> = filter.visible.as_ref(),
            reason: Nullable<Text> = filter.reason.map(Db),
            cause: Nullable<Text> = filter.cause.clone(),
        )
        .load(connection)
        .await?);
    }
    Ok(sql!(
        "select w.reason, w.cause, sum(w.jobs)::bigint as jobs, count(*) as strands, min(w.oldest) as oldest
         from waiting_line w"
        matching!()
        " group by w.reason, w.cause order by oldest, w.reason, w.cause";
        place: Nullable<Text> = filter.place.clone(),
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        requirement: Nullable<Text> = filter.requirement.clone(),
        reason: Nullable<Text> = filter.reason.map(Db),
        cause: Nullable<Text> = filter.cause.clone(),
    )
    .load(connection)
    .await?)
}

/// A part of a strand's line.
#[derive(Clone, Debug, QueryableByName)]
pub struct ShownPart {
    #[diesel(sql_type = SqlUuid)]
    pub strand_id: Db<StrandId>,
    #[diesel(sql_type = Integer)]
    pub part: i32,
    #[diesel(sql_type = Text)]
    pub reason: Db<Reason>,
    #[diesel(sql_type = Text)]
    pub cause: String,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
    #[diesel(sql_type = Timestamptz)]
    pub oldest: Db<Moment>,
    /// The number of its first job.
    #[diesel(sql_type = BigInt)]
    pub first: i64,
    #[diesel(sql_type = Jsonb)]
    pub key: Json<StrandKey>,
    /// The project's path.
    #[diesel(sql_type = Text)]
    pub project: String,
}

/// A place in a list of parts: what comes after it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct AfterPart {
    pub oldest: Moment,
    pub strand: StrandId,
    pub part: i32,
}

/// Returns parts, the longest wait first.
pub async fn parts(
    connection: &mut Connection,
    filter: &LineFilter,
    after: Option<AfterPart>,
    limit: i64,
) -> Result<Vec<ShownPart>> {
    Ok(sql!(
        "select q.* from (select " shown_part!() " from (select w.* from waiting_line w"
        matching!()
        "  and (:after::timestamptz is null or (w.oldest, w.strand_id, w.part) > (:after, :strand, :part))
           order by w.oldest, w.strand_id, w.part limit :limit) w) q
         where q.key is not null and q.project is not null order by q.oldest, q.strand_id, q.part";
        place: Nullable<Text> = filter.place.clone(),
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        requirement: Nullable<Text> = filter.requirement.clone(),
        reason: Nullable<Text> = filter.reason.map(Db),
        cause: Nullable<Text> = filter.cause.clone(),
        after: Nullable<Timestamptz> = after.map(|one| Db(one.oldest)),
        strand: SqlUuid = Db(after.map(|one| one.strand).unwrap_or_default()),
        part: Integer = after.map_or(0, |one| one.part),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Returns the first parts of each of some groups, the longest wait first.
pub async fn heads(
    connection: &mut Connection,
    filter: &LineFilter,
    groups: &[LineGroup],
    each: i64,
) -> Result<Vec<ShownPart>> {
    Ok(sql!(
        "select q.* from (select " shown_part!() " from unnest(:reasons, :causes) as g(reason, cause) cross join lateral (select w.* from waiting_line w"
        matching!()
        "  and w.reason = g.reason and w.cause = g.cause order by w.oldest, w.strand_id, w.part limit :each) w) q
         where q.key is not null and q.project is not null order by q.oldest, q.strand_id, q.part";
        reasons: Array<Text> = groups.iter().map(|group| group.reason).collect::<Vec<_>>(),
        causes: Array<Text> = groups.iter().map(|group| group.cause.clone()).collect::<Vec<_>>(),
        place: Nullable<Text> = filter.place.clone(),
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        requirement: Nullable<Text> = filter.requirement.clone(),
        reason: Nullable<Text> = filter.reason.map(Db),
        cause: Nullable<Text> = filter.cause.clone(),
        each: BigInt = each,
    )
    .load(connection)
    .await?)
}

/// Waiting jobs of a project that nothing can ever run.
#[derive(Clone, Debug, QueryableByName)]
pub struct UnmatchedLine {
    /// The project's path.
    #[diesel(sql_type = Text)]
    pub project: String,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
    #[diesel(sql_type = BigInt)]
    pub requirements: i64,
    #[diesel(sql_type = Timestamptz)]
    pub oldest: Db<Moment>,
    /// The requirement of the job that waits longest, and its number.
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = BigInt)]
    pub first: i64,
}

/// Returns the projects with jobs that nothing can ever run, the longest wait first.
pub async fn unmatched(connection: &mut Connection, limit: i64) -> Result<Vec<UnmatchedLine>> {
    Ok(sql!(
        "select p.path as project, sum(w.jobs)::bigint as jobs, count(distinct w.requirement) as requirements,
                min(w.oldest) as oldest, (array_agg(w.requirement order by w.oldest, w.first))[1] as requirement,
                (array_agg(w.first order by w.oldest, w.first))[1] as first
         from waiting_line w join place p on p.id = w.project_id
         where w.reason = :no_match group by p.path order by oldest, p.path limit :limit";
        no_match: Text = Db(Reason::NoMatch),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// How many jobs of a project wait.
#[derive(Clone, Debug, QueryableByName)]
pub struct ProjectLine {
    #[diesel(sql_type = SqlUuid)]
    pub project_id: Db<PlaceId>,
    #[diesel(sql_type = BigInt)]
    pub jobs: i64,
}

/// Returns how many jobs wait, by project.
pub async fn by_project(connection: &mut Connection) -> Result<Vec<ProjectLine>> {
    Ok(sql!(
        "select project_id, sum(jobs)::bigint as jobs from waiting_group group by project_id";
    )
    .load(connection)
    .await?)
}

/// Returns the parts of the lines that a filter means, as places in line.
pub async fn spans(
    connection: &mut Connection,
    filter: &LineFilter,
    limit: i64,
) -> Result<Vec<TimelineSpan>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        strand_id: Db<StrandId>,
        #[diesel(sql_type = BigInt)]
        place: i64,
        #[diesel(sql_type = BigInt)]
        jobs: i64,
    }
    let rows: Vec<Row> = sql!(
        "select w.strand_id, w.place, w.jobs from waiting_line w"
        matching!()
        " order by w.oldest, w.strand_id, w.part limit :limit";
        place: Nullable<Text> = filter.place.clone(),
        visible: Nullable<Array<Text>> = filter.visible.as_ref(),
        requirement: Nullable<Text> = filter.requirement.clone(),
        reason: Nullable<Text> = filter.reason.map(Db),
        cause: Nullable<Text> = filter.cause.clone(),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    let place = |number: i64| u32::try_from(number).unwrap_or(u32::MAX);
    let span = |row: Row| TimelineSpan {
        strand: row.strand_id.0,
        from: place(row.place),
        to: Some(place(row.place.saturating_add(row.jobs))),
    };
    Ok(rows.into_iter().map(span).collect())
}
