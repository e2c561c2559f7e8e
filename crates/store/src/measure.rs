//! What is over is added to the sums, once: stints of jobs, offers of runners, machines.
//!
//! `measured` says how far the change feed was read for it; its row is locked meanwhile, so that nobody adds the same
//! twice. What was added has a row of its own ([`stint`](Stint)), or a mark. The same functions work everything out anew
//! from the record, with the same bytes.

use crate::connect::{Connection, in_transaction};
use crate::error::Result;
use crate::outbox::Cursor;
use crate::partition;
use crate::rollup::{self, Key, Kind, Known, Sums};
use crate::statement::statement;
use crate::stay::{self, Asked, Queued};
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{
    Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid,
};
use pennine_core::dispatch::{Price, Reason};
use pennine_core::id::{JobId, PlaceId, PoolId, RunnerId, StrandId, SupplierId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::{Grain, MachineTime, Offered, Stint};
use pennine_core::time::Moment;
use pennine_core::wait::split;
use std::collections::BTreeSet;
use uuid::Uuid;

/// How far the change feed was read for the sums, and until when everything that was over is counted.
pub async fn progress(connection: &mut Connection) -> Result<(Cursor, Moment)> {
    read_progress(statement("select txid, id, at from measured"), connection).await
}

/// As [`progress`], and nobody else adds anything until the transaction is over.
pub async fn lock(connection: &mut Connection) -> Result<(Cursor, Moment)> {
    read_progress(
        statement("select txid, id, at from measured for update"),
        connection,
    )
    .await
}

async fn read_progress(
    asked: crate::statement::Statement<'_>,
    connection: &mut Connection,
) -> Result<(Cursor, Moment)> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        txid: i64,
        #[diesel(sql_type = BigInt)]
        id: i64,
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
    }
    let row: Row = asked.get_result(connection).await?;
    Ok((Cursor::at(row.txid, row.id), row.at.0))
}

/// Notes how far the feed was read.
pub async fn note_progress(connection: &mut Connection, cursor: Cursor, at: Moment) -> Result<()> {
    statement("update measured set txid = $1, id = $2, at = greatest(at, $3)")
        .bind::<BigInt, _>(cursor.transaction())
        .bind::<BigInt, _>(cursor.number())
        .bind::<Timestamptz, _>(Db(at))
        .execute(connection)
        .await?;
    Ok(())
}

/// Jobs that are worked out anew at once.
const ANEW: i64 = 2000;

/// A stint as the record has it.
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
    #[diesel(sql_type = BigInt)]
    pub processor_us: i64,
    #[diesel(sql_type = BigInt)]
    pub peak_memory: i64,
}

/// The columns of [`Row`]: of attempts, and of waits that led to none.
macro_rules! stints {
    ($attempts:literal, $waits:literal) => {
        concat!(
            "select a.id, a.job_id, j.number as job_number, j.project_id, a.strand_id, a.pool_id, a.runner_id,
                    m.supplier_id, coalesce(pp.supply ->> 'image', '') as image, j.requirement, j.title,
                    coalesce(j.ready_at, j.created_at) as queued_at, a.ready_at, a.assigned_at, a.started_at,
                    a.exited_at, a.finished_at as ended_at,
                    case when j.current_attempt = a.id then j.result end as result,
                    not a.open and not a.accepted as lost, coalesce(a.processor_us, 0) as processor_us,
                    coalesce(a.peak_memory, 0) as peak_memory
             from attempt a join job j on j.id = a.job_id
             left join lateral (select supplier_id from machine m where m.runner_id = a.runner_id limit 1) m on true
             left join pool_policy pp on pp.pool_id = a.pool_id and pp.version = a.policy_version
             where ", $attempts, "
             union all
             select j.id, j.id, j.number, j.project_id, j.strand_id, null, null, null, '', j.requirement, j.title,
                    coalesce(j.ready_at, j.created_at), j.waits_since, null, null, null, j.finished_at, j.result,
                    false, 0, 0
             from job j where j.waits_since is not null and ", $waits
        )
    };
}

/// Of these attempts and jobs, the stints that are over and not counted.
pub async fn uncounted(
    connection: &mut Connection,
    attempts: &[Uuid],
    jobs: &[Uuid],
) -> Result<Vec<Row>> {
    Ok(statement(stints!(
        "a.id = any($1) and not a.open
           and not exists (select from stint s where s.id = a.id and s.ready_at = a.ready_at)",
        "j.id = any($2) and j.never_ran
           and not exists (select from stint s where s.id = j.id and s.ready_at = j.waits_since)"
    ))
    .bind::<Array<SqlUuid>, _>(attempts)
    .bind::<Array<SqlUuid>, _>(jobs)
    .load(connection)
    .await?)
}

/// The stints that are over, of jobs made after one and in the order in which they were; at most so many jobs' worth, and
/// the last job that was looked at.
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
    let ids: Vec<Id> = statement("select id from job where id > $1 order by id limit $2")
        .bind::<SqlUuid, _>(after)
        .bind::<BigInt, _>(jobs)
        .load(connection)
        .await?;
    let ids: Vec<Uuid> = ids.into_iter().map(|row| row.id).collect();
    let last = ids.last().copied();
    let rows = statement(stints!(
        "a.job_id = any($1) and not a.open",
        "j.id = any($2) and j.never_ran"
    ))
    .bind::<Array<SqlUuid>, _>(&ids)
    .bind::<Array<SqlUuid>, _>(&ids)
    .load(connection)
    .await?;
    Ok((rows, last))
}

/// The stints that go on: attempts that are not over, and jobs that wait.
pub async fn going_on(connection: &mut Connection) -> Result<Vec<Row>> {
    Ok(
        statement(stints!("a.open", "j.open and j.current_attempt is null"))
            .load(connection)
            .await?,
    )
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
    pub fn keys(&self) -> Vec<Key> {
        let project = self.project_id.0.to_string();
        let mut keys = vec![
            (Kind::Yard, String::new()),
            (Kind::Project, project.clone()),
            self.requirement_key(),
            self.title_key(),
        ];
        if let Some(pool) = self.pool_id {
            let pool = pool.0.to_string();
            keys.push((Kind::PoolProject, format!("{pool}/{project}")));
            keys.push((Kind::Pool, pool));
        }
        let of = |kind, id: Option<String>| id.map(|id| (kind, id));
        keys.extend(of(Kind::Runner, self.runner_id.map(|id| id.0.to_string())));
        keys.extend(of(
            Kind::Supplier,
            self.supplier_id.map(|id| id.0.to_string()),
        ));
        keys.extend(of(
            Kind::Image,
            Some(self.image.clone()).filter(|image| !image.is_empty()),
        ));
        keys
    }

    fn requirement_key(&self) -> Key {
        (Kind::Requirement, self.requirement.clone())
    }

    fn title_key(&self) -> Key {
        let title = plain_title(&self.title);
        (Kind::Title, format!("{}/{title}", self.project_id.0))
    }

    /// When the wait was over, or is cut off.
    fn waited_until(&self, now: Moment) -> Moment {
        self.started_at.or(self.ended_at).map_or(now, |at| at.0)
    }
}

/// The stints with their waits split; what goes on is cut off at `now`.
pub async fn split_all(
    connection: &mut Connection,
    rows: &[Row],
    now: Moment,
) -> Result<Vec<Stint>> {
    let asked: Vec<Asked> = rows
        .iter()
        .map(|row| Asked {
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
    let stays = stay::many(connection, &asked).await?;
    let count = |number: i64| number.max(0).unsigned_abs();
    let stints = rows.iter().zip(stays).map(|(row, stays)| {
        let waited_until = row.waited_until(now).max(row.ready_at.0);
        let assigned = row.assigned_at.map(|at| at.0);
        Stint {
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
    Ok(stints.collect())
}

/// Adds stints that are over and were not counted.
pub async fn add_stints(
    connection: &mut Connection,
    known: &mut Known,
    rows: &[Row],
) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let stints = split_all(connection, rows, Moment::default()).await?;
    let keys: Vec<Vec<Key>> = rows.iter().map(Row::keys).collect();
    let numbers = known
        .numbers(connection, keys.iter().flatten().cloned())
        .await?;
    let mut sums = Sums::default();
    for (stint, keys) in stints.iter().zip(&keys) {
        for grain in Grain::ALL {
            for (at, cell) in stint.cells(grain) {
                for key in keys {
                    if let Some(number) = numbers.get(key) {
                        sums.add((grain, key.0, *number, at), &cell);
                    }
                }
            }
        }
    }
    let number = |key: &Key| numbers.get(key).copied().unwrap_or(0);
    let words: Vec<(i64, i64)> = rows
        .iter()
        .map(|row| (number(&row.requirement_key()), number(&row.title_key())))
        .collect();
    keep(connection, rows, &stints, &words).await?;
    sums.write(connection).await
}

/// Keeps that these were counted, for who looks for the jobs behind a sum.
async fn keep(
    connection: &mut Connection,
    rows: &[Row],
    stints: &[Stint],
    words: &[(i64, i64)],
) -> Result<()> {
    let small = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
    // A list of lists has to be even: each stint's reasons come one after the other.
    let reasons: Vec<i64> = stints
        .iter()
        .flat_map(|stint| {
            Reason::ALL.iter().map(|reason| {
                let mine = stint.wait.iter().filter(|span| span.reason == *reason);
                small(mine.map(|span| span.length_us.0).sum())
            })
        })
        .collect();
    let of = i32::try_from(Reason::ALL.len()).unwrap_or(0);
    statement(
        "insert into stint (id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at,
                            waited_us, reasons, assigned_at, started_at, exited_at, ended_at, result, lost, processor_us,
                            peak_memory)
         select w.id, w.job_id, w.job_number, w.project_id, w.pool_id, w.runner_id, w.requirement, w.title, w.ready_at,
                w.waited_us, ($1::bigint[])[(w.n - 1) * $2 + 1 : w.n * $3], w.assigned_at, w.started_at, w.exited_at,
                w.ended_at, w.result, w.lost, w.processor_us, w.peak_memory
         from unnest($4::uuid[], $5::uuid[], $6::bigint[], $7::uuid[], $8::uuid[], $9::uuid[], $10::bigint[],
                     $11::bigint[], $12::timestamptz[], $13::bigint[], $14::timestamptz[], $15::timestamptz[],
                     $16::timestamptz[], $17::timestamptz[], $18::text[], $19::boolean[], $20::bigint[], $21::bigint[])
              with ordinality
           as w(id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at, waited_us,
                assigned_at, started_at, exited_at, ended_at, result, lost, processor_us, peak_memory, n)",
    )
    .bind::<Array<BigInt>, _>(reasons)
    .bind::<Integer, _>(of)
    .bind::<Integer, _>(of)
    .bind::<Array<SqlUuid>, _>(rows.iter().map(|row| row.id).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(rows.iter().map(|row| row.job_id).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows.iter().map(|row| row.job_number).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(rows.iter().map(|row| row.project_id).collect::<Vec<_>>())
    .bind::<Array<Nullable<SqlUuid>>, _>(rows.iter().map(|row| row.pool_id).collect::<Vec<_>>())
    .bind::<Array<Nullable<SqlUuid>>, _>(rows.iter().map(|row| row.runner_id).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(words.iter().map(|(requirement, _)| *requirement).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(words.iter().map(|(_, title)| *title).collect::<Vec<_>>())
    .bind::<Array<Timestamptz>, _>(rows.iter().map(|row| row.ready_at).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(stints.iter().map(|stint| small(stint.waited())).collect::<Vec<_>>())
    .bind::<Array<Nullable<Timestamptz>>, _>(rows.iter().map(|row| row.assigned_at).collect::<Vec<_>>())
    .bind::<Array<Nullable<Timestamptz>>, _>(rows.iter().map(|row| row.started_at).collect::<Vec<_>>())
    .bind::<Array<Nullable<Timestamptz>>, _>(rows.iter().map(|row| row.exited_at).collect::<Vec<_>>())
    .bind::<Array<Timestamptz>, _>(stints.iter().map(|stint| Db(stint.ended)).collect::<Vec<_>>())
    .bind::<Array<Nullable<Text>>, _>(rows.iter().map(|row| row.result).collect::<Vec<_>>())
    .bind::<Array<Bool>, _>(rows.iter().map(|row| row.lost).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows.iter().map(|row| row.processor_us).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows.iter().map(|row| row.peak_memory).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// A stretch in which a runner offered slots.
#[derive(Clone, Debug, QueryableByName)]
pub struct Offer {
    #[diesel(sql_type = SqlUuid)]
    pub runner_id: Db<RunnerId>,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = Timestamptz)]
    pub since: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub until: Option<Db<Moment>>,
    #[diesel(sql_type = Integer)]
    pub slots: i32,
}

impl Offer {
    /// As the core counts it; cut off at `now` where it goes on.
    pub fn offered(&self, now: Moment) -> Offered {
        Offered {
            from: self.since.0,
            until: self.until.map_or(now, |at| at.0),
            slots: self.slots.max(0).unsigned_abs(),
        }
    }

    /// What its sums are kept by.
    pub fn keys(&self) -> Vec<Key> {
        vec![
            (Kind::Yard, String::new()),
            (Kind::Pool, self.pool_id.0.to_string()),
            (Kind::Runner, self.runner_id.0.to_string()),
        ]
    }
}

/// What a runner offers from a moment on.
#[derive(Clone, Copy, Debug)]
pub struct NewOffer {
    pub runner: RunnerId,
    pub since: Moment,
    /// How many slots; none when it takes nothing.
    pub slots: u32,
}

/// What these runners offer now, as the record has them: slots of those that are connected and take work, and whose pool is
/// not paused. With their pools.
pub async fn offers_now(
    connection: &mut Connection,
    runners: &[Uuid],
) -> Result<Vec<(RunnerId, u32)>> {
    #[derive(QueryableByName)]
    struct Now {
        #[diesel(sql_type = SqlUuid)]
        id: Db<RunnerId>,
        #[diesel(sql_type = Integer)]
        slots: i32,
    }
    let rows: Vec<Now> = statement(
        "select r.id, case when r.state in ('available', 'busy') and not p.paused then r.slots else 0 end as slots
         from runner r join pool p on p.id = r.pool_id where r.id = any($1)",
    )
    .bind::<Array<SqlUuid>, _>(runners)
    .load(connection)
    .await?;
    let now = |row: Now| (row.id.0, row.slots.max(0).unsigned_abs());
    Ok(rows.into_iter().map(now).collect())
}

/// The runners of these pools that are not retired.
pub async fn members(connection: &mut Connection, pools: &[Uuid]) -> Result<Vec<Uuid>> {
    #[derive(QueryableByName)]
    struct Id {
        #[diesel(sql_type = SqlUuid)]
        id: Uuid,
    }
    let rows: Vec<Id> =
        statement("select id from runner where pool_id = any($1) and state <> 'retired'")
            .bind::<Array<SqlUuid>, _>(pools)
            .load(connection)
            .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// Ends the stretches of runners that offer another number of slots by now, begins their next, and adds what is over.
pub async fn add_offers(
    connection: &mut Connection,
    known: &mut Known,
    new: &[NewOffer],
) -> Result<()> {
    if new.is_empty() {
        return Ok(());
    }
    let small = |slots: u32| i32::try_from(slots).unwrap_or(i32::MAX);
    let runners: Vec<Db<RunnerId>> = new.iter().map(|one| Db(one.runner)).collect();
    let since: Vec<Db<Moment>> = new.iter().map(|one| Db(one.since)).collect();
    let slots: Vec<i32> = new.iter().map(|one| small(one.slots)).collect();
    let ended: Vec<Offer> = statement(
        "update runner_offer o set until = greatest(w.since, o.since)
         from unnest($1, $2, $3) as w(runner_id, since, slots)
         where o.runner_id = w.runner_id and o.until is null and o.slots <> w.slots
         returning o.runner_id, o.pool_id, o.since, o.until, o.slots",
    )
    .bind::<Array<SqlUuid>, _>(&runners)
    .bind::<Array<Timestamptz>, _>(&since)
    .bind::<Array<Integer>, _>(&slots)
    .load(connection)
    .await?;
    statement(
        "insert into runner_offer (runner_id, pool_id, since, slots)
         select w.runner_id, r.pool_id, w.since, w.slots
         from unnest($1, $2, $3) as w(runner_id, since, slots) join runner r on r.id = w.runner_id
         where w.slots > 0
           and not exists (select from runner_offer o where o.runner_id = w.runner_id and o.until is null)
         on conflict (runner_id, since) do update set until = null, slots = excluded.slots",
    )
    .bind::<Array<SqlUuid>, _>(&runners)
    .bind::<Array<Timestamptz>, _>(&since)
    .bind::<Array<Integer>, _>(&slots)
    .execute(connection)
    .await?;
    count_offers(connection, known, &ended).await
}

/// Adds stretches of offers that are over.
pub async fn count_offers(
    connection: &mut Connection,
    known: &mut Known,
    ended: &[Offer],
) -> Result<()> {
    let keys: Vec<Vec<Key>> = ended.iter().map(Offer::keys).collect();
    let numbers = known
        .numbers(connection, keys.iter().flatten().cloned())
        .await?;
    let mut sums = Sums::default();
    for (offer, keys) in ended.iter().zip(&keys) {
        for grain in Grain::ALL {
            for (at, cell) in offer.offered(Moment::default()).cells(grain) {
                for key in keys {
                    if let Some(number) = numbers.get(key) {
                        sums.add((grain, key.0, *number, at), &cell);
                    }
                }
            }
        }
    }
    sums.write(connection).await
}

/// Records a stretch of an offer that is over, as history brings it.
pub async fn record_offer(connection: &mut Connection, offer: &Offer) -> Result<()> {
    statement(
        "insert into runner_offer (runner_id, pool_id, since, until, slots) values ($1, $2, $3, $4, $5)
         on conflict do nothing",
    )
    .bind::<SqlUuid, _>(offer.runner_id)
    .bind::<SqlUuid, _>(offer.pool_id)
    .bind::<Timestamptz, _>(offer.since)
    .bind::<Nullable<Timestamptz>, _>(offer.until)
    .bind::<Integer, _>(offer.slots)
    .execute(connection)
    .await?;
    Ok(())
}

/// Stretches of offers that go on.
pub async fn open_offers(connection: &mut Connection) -> Result<Vec<Offer>> {
    Ok(statement(
        "select runner_id, pool_id, since, until, slots from runner_offer where until is null",
    )
    .load(connection)
    .await?)
}

/// Stretches of offers that are over, after one, in order; some at a time.
pub async fn offers_over(
    connection: &mut Connection,
    after: Option<(RunnerId, Moment)>,
    most: i64,
) -> Result<Vec<Offer>> {
    let (runner, since) = after.unwrap_or((RunnerId(Uuid::nil()), Moment::default()));
    Ok(statement(
        "select runner_id, pool_id, since, until, slots from runner_offer
         where (runner_id, since) > ($1, $2) and until is not null order by runner_id, since limit $3",
    )
    .bind::<SqlUuid, _>(Db(runner))
    .bind::<Timestamptz, _>(Db(since))
    .bind::<BigInt, _>(most)
    .load(connection)
    .await?)
}

/// A machine whose cost is not among the sums: it is there, or has just gone.
#[derive(Clone, Debug, QueryableByName)]
pub struct Machine {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    pub pool_id: Db<PoolId>,
    #[diesel(sql_type = SqlUuid)]
    pub supplier_id: Db<SupplierId>,
    #[diesel(sql_type = Text)]
    pub image: String,
    #[diesel(sql_type = BigInt)]
    pub price: i64,
    #[diesel(sql_type = Timestamptz)]
    pub ordered_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub joined_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub released_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<Db<Moment>>,
}

impl Machine {
    /// As the core counts it; cut off at `now` where it is there.
    pub fn time(&self, now: Moment) -> MachineTime {
        MachineTime {
            ordered: self.ordered_at.0,
            joined: self.joined_at.map(|at| at.0),
            released: self.released_at.map(|at| at.0),
            until: self.ended_at.map_or(now, |at| at.0),
            price: Price(self.price.max(0).unsigned_abs()),
        }
    }

    /// What its sums are kept by.
    pub fn keys(&self) -> Vec<Key> {
        let mut keys = vec![
            (Kind::Yard, String::new()),
            (Kind::Pool, self.pool_id.0.to_string()),
            (Kind::Supplier, self.supplier_id.0.to_string()),
        ];
        if !self.image.is_empty() {
            keys.push((Kind::Image, self.image.clone()));
        }
        keys
    }
}

/// Machines whose cost is not among the sums.
pub async fn machines(connection: &mut Connection) -> Result<Vec<Machine>> {
    Ok(statement(
        "select m.id, m.pool_id, m.supplier_id, coalesce(pp.supply ->> 'image', '') as image, m.price, m.ordered_at,
                m.joined_at, m.released_at, m.ended_at
         from machine m left join pool_policy pp on pp.pool_id = m.pool_id and pp.version = m.policy_version
         where not m.counted",
    )
    .load(connection)
    .await?)
}

/// Adds what machines cost that are gone.
pub async fn add_machines(connection: &mut Connection, known: &mut Known) -> Result<usize> {
    let mut gone = machines(connection).await?;
    gone.retain(|machine| machine.ended_at.is_some());
    if gone.is_empty() {
        return Ok(0);
    }
    let keys: Vec<Vec<Key>> = gone.iter().map(Machine::keys).collect();
    let numbers = known
        .numbers(connection, keys.iter().flatten().cloned())
        .await?;
    let mut sums = Sums::default();
    for (machine, keys) in gone.iter().zip(&keys) {
        for grain in Grain::ALL {
            for (at, cell) in machine.time(Moment::default()).cells(grain) {
                for key in keys {
                    if let Some(number) = numbers.get(key) {
                        sums.add((grain, key.0, *number, at), &cell);
                    }
                }
            }
        }
    }
    sums.write(connection).await?;
    statement("update machine set counted = true where id = any($1)")
        .bind::<Array<SqlUuid>, _>(gone.iter().map(|machine| machine.id).collect::<Vec<_>>())
        .execute(connection)
        .await?;
    Ok(gone.len())
}

/// What was worked out anew.
#[derive(Clone, Copy, Debug, Default)]
pub struct Rebuilt {
    pub stints: u64,
    pub offers: u64,
    pub machines: u64,
}

/// Works all sums out anew from the record, in one transaction: it waits for whoever adds something, and they for
/// it. What the feed says later of what is counted already is known by its mark.
pub async fn rebuild(connection: &mut Connection, until: Moment) -> Result<Rebuilt> {
    in_transaction(connection, async |connection| {
        let (cursor, at) = lock(connection).await?;
        rollup::clear(connection).await?;
        let (mut known, mut done) = (Known::default(), Rebuilt::default());
        let mut months = BTreeSet::new();
        let mut after = Uuid::nil();
        loop {
            let (rows, last) = over_after(connection, after, ANEW).await?;
            for row in &rows {
                // Sums lie where their jobs do, which may be long ago.
                if months.insert(Grain::Month.start(row.ready_at.0)) {
                    partition::ensure(connection, row.ready_at.0, row.ready_at.0).await?;
                }
            }
            add_stints(connection, &mut known, &rows).await?;
            done.stints += rows.len() as u64;
            match last {
                Some(last) => after = last,
                None => break,
            }
        }
        let mut last = None;
        loop {
            let offers = offers_over(connection, last, ANEW).await?;
            let Some(end) = offers.last() else { break };
            last = Some((end.runner_id.0, end.since.0));
            count_offers(connection, &mut known, &offers).await?;
            done.offers += offers.len() as u64;
        }
        done.machines = add_machines(connection, &mut known).await? as u64;
        note_progress(connection, cursor, at.max(until)).await?;
        Ok(done)
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::plain_title;

    #[test]
    fn numbers_in_titles_are_one() {
        assert_eq!(plain_title("tide table 3 of 14"), "tide table # of #");
        assert_eq!(plain_title("v2.10"), "v#.#");
        assert_eq!(plain_title("build and test"), "build and test");
    }
}
