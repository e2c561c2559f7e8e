//! A year of ten million jobs: how long the questions take that pages and people ask most, and the same of plain SQL over the
//! raw rows. Sums are made as the service makes them; only the writing of rows one by one is spared.
//!
//! `PENNINE_BENCH_JOBS` sets how many jobs (10,000,000 when not given).

// What goes wrong here ends the bench.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

// What the other benches stand on too.
#[allow(dead_code)]
mod stand;

use pennine_client::TrendFilter;
use pennine_core::dispatch::Reason;
use pennine_core::id::{PlaceId, PoolId, RunnerId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::{Resolution, WorkSpan};
use pennine_core::time::{Micros, Moment};
use pennine_core::wait::Span;
use pennine_store::connect::PoolSizes;
use pennine_store::rollup::{KeyCache, RollupKey, Sums};
use pennine_store::{Connection, Store, partition};
use pennine_wire::By;
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::fmt::Write;
use std::time::{Duration, Instant};
use tokio_postgres::NoTls;
use uuid::Uuid;

const DAY: i64 = 86_400_000_000;
const POOLS: usize = 20;
const PROJECTS: usize = 250;
const REQUIREMENTS: usize = 200;
const TITLES: usize = 4;
const RUNNERS: usize = 1000;

struct PastJob {
    work_span: WorkSpan,
    pool: usize,
    project: usize,
    requirement: usize,
    title: usize,
    runner: usize,
}

fn draw(lots: &mut StdRng, day: i64) -> PastJob {
    // Most work comes by day.
    let hour = if lots.random_bool(0.8) {
        lots.random_range(8..18)
    } else {
        lots.random_range(0..24)
    };
    let ready = day + hour * 3_600_000_000 + lots.random_range(0..3_600_000_000);
    let long = lots.random_bool(0.1);
    let queued = if long {
        lots.random_range(0..1_800_000_000)
    } else {
        lots.random_range(0..20_000_000)
    };
    let handover = lots.random_range(2_000..20_000);
    let reason = match lots.random_range(0..10) {
        0 => Reason::MachineComing,
        1 => Reason::SeatTaken,
        _ => Reason::AllBusy,
    };
    let at = Moment::from_micros;
    let (assigned, started) = (ready + queued, ready + queued + handover);
    let ended = started + lots.random_range(1_000_000..600_000_000);
    let span = |reason, from: i64, to: i64| Span {
        reason,
        from: at(from),
        to: at(to),
        length_us: Micros((to - from) as u64),
    };
    // Each requirement is one project's, mostly, and each project has few pools.
    let project = lots.random_range(0..PROJECTS);
    PastJob {
        work_span: WorkSpan {
            ready: at(ready),
            wait: vec![
                span(reason, ready, assigned),
                span(Reason::Handover, assigned, started),
            ],
            waited_until: at(started),
            assigned: Some(at(assigned)),
            started: Some(at(started)),
            exited: Some(at(ended)),
            ended: at(ended),
            result: Some(if lots.random_bool(0.93) {
                Outcome::Success
            } else {
                Outcome::Failure
            }),
            lost: false,
            processor: (ended - started) as u64,
            peak_memory: lots.random_range(1..4_000_000_000),
        },
        pool: (project + lots.random_range(0..3)) % POOLS,
        project,
        requirement: (project + lots.random_range(0..2)) % REQUIREMENTS,
        title: project * TITLES + lots.random_range(0..TITLES),
        runner: lots.random_range(0..RUNNERS),
    }
}

fn named(count: usize, salt: u128) -> Vec<Uuid> {
    (0..count)
        .map(|n| Uuid::from_u128((0xbe7c << 112) | (salt << 64) | n as u128))
        .collect()
}

/// The things that there were.
struct Things {
    pools: Vec<Uuid>,
    projects: Vec<Uuid>,
    runners: Vec<Uuid>,
}

impl Things {
    fn new() -> Things {
        Things {
            pools: named(POOLS, 1),
            projects: named(PROJECTS, 2),
            runners: named(RUNNERS, 3),
        }
    }

    /// The statements that add them to the record.
    fn statements(&self) -> String {
        let mut text = String::new();
        for (n, id) in self.projects.iter().enumerate() {
            let team = n % 50;
            let team_id = Uuid::from_u128((0xbe7c << 112) | (9 << 64) | team as u128);
            if n < 50 {
                writeln!(text, "insert into place (id, kind, name, path, parent_id, created_at) select '{team_id}', 'team', 'team{n}', 'team{n}', id, now() from place where kind = 'root';").unwrap();
            }
            writeln!(text, "insert into place (id, kind, name, path, parent_id, created_at) values ('{id}', 'project', 'project{n}', 'team{team}/project{n}', '{team_id}', now());").unwrap();
        }
        for (n, id) in self.pools.iter().enumerate() {
            writeln!(text, "insert into pool (id, name, description, owner_id, labels, open, policy_version, created_at) select '{id}', 'pool{n}', '', id, '{{}}', true, 1, now() from place where kind = 'root';").unwrap();
        }
        for (n, id) in self.runners.iter().enumerate() {
            let pool = self.pools[n % POOLS];
            writeln!(text, "insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version, program, created_at) values ('{id}', '{pool}', 'runner{n}', 'offline', now(), '', 1, '{{}}', '{{}}', 0, '', now());").unwrap();
        }
        text
    }

    fn requirement(n: usize) -> RollupKey {
        RollupKey::Requirement(format!("linux and tool{n}"))
    }

    fn title(&self, n: usize) -> RollupKey {
        RollupKey::Title {
            project: PlaceId(self.projects[n / TITLES]),
            title: format!("work {}", n % TITLES),
        }
    }

    /// What a job's sums are kept by.
    fn keys(&self, job: &PastJob) -> [RollupKey; 7] {
        let pool = PoolId(self.pools[job.pool]);
        let project = PlaceId(self.projects[job.project]);
        [
            RollupKey::Yard,
            RollupKey::Pool(pool),
            RollupKey::Project(project),
            Things::requirement(job.requirement),
            self.title(job.title),
            RollupKey::Runner(RunnerId(self.runners[job.runner])),
            RollupKey::PoolProject { pool, project },
        ]
    }
}

/// A job's row for the `copy` of work spans.
fn row(rows: &mut String, things: &Things, job: &PastJob, known: &KeyCache, count: i64) {
    let span = &job.work_span;
    let id = Uuid::from_u128(((span.ready.micros() / 1000) as u128) << 80 | count as u128);
    let mut reasons = vec![0u64; Reason::ALL.len()];
    for part in &span.wait {
        let place = Reason::ALL.iter().position(|reason| *reason == part.reason);
        reasons[place.unwrap()] += part.length_us.0;
    }
    let reasons: Vec<String> = reasons.iter().map(u64::to_string).collect();
    let number = |key: RollupKey| known.number(&key).unwrap();
    writeln!(
        rows,
        "{id}\t{id}\t{count}\t{}\t{}\t{}\t{}\t{}\t{}\t{}\t{{{}}}\t{}\t{}\t{}\t{}\t{}\tf\t{}\t{}",
        things.projects[job.project],
        things.pools[job.pool],
        things.runners[job.runner],
        number(Things::requirement(job.requirement)),
        number(things.title(job.title)),
        span.ready,
        span.waited(),
        reasons.join(","),
        span.assigned.unwrap(),
        span.started.unwrap(),
        span.ended,
        span.ended,
        span.result.unwrap(),
        span.processor,
        span.peak_memory
    )
    .unwrap();
}

/// Makes a year of jobs up to a moment, with their sums. How many.
async fn make_history(
    raw: &tokio_postgres::Client,
    connection: &mut Connection,
    today: i64,
    jobs: i64,
) -> i64 {
    let first = today - 365 * DAY;
    let things = Things::new();
    raw.batch_execute(&things.statements()).await.unwrap();
    // Sums of five minutes are kept for fifteen days.
    let (fine, hours) = (today - 15 * DAY, today - 35 * DAY);
    let mut known = KeyCache::default();
    let mut lots = StdRng::seed_from_u64(7);
    let mut count = 0i64;
    let mut sums = Sums::default();
    for day in 0..365 {
        let begins = first + day * DAY;
        let at = Moment::from_micros(begins);
        if Resolution::Month.start(at) == at {
            write(raw, sums.take_before(at)).await;
        }
        let some: Vec<PastJob> = (0..jobs / 365).map(|_| draw(&mut lots, begins)).collect();
        let keys = some.iter().flat_map(|job| things.keys(job));
        known.numbers(connection, keys).await.unwrap();
        let mut rows = String::new();
        for job in &some {
            let keys = things.keys(job);
            for resolution in Resolution::ALL {
                if resolution == Resolution::FiveMinutes && begins < fine {
                    continue;
                }
                for (at, cell) in job.work_span.cells(resolution) {
                    for key in &keys {
                        let kind = key.kind();
                        if !(resolution == Resolution::Hour && kind.many() && begins < hours) {
                            let number = known.number(key).unwrap();
                            sums.add((resolution, kind, number, at), &cell);
                        }
                    }
                }
            }
            count += 1;
            row(&mut rows, &things, job, &known, count);
        }
        copy(raw, "copy work_span (id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at, waited_us, reasons, assigned_at, started_at, exited_at, ended_at, result, lost, processor_us, peak_memory) from stdin", rows).await;
    }
    write(raw, sums.take_before(Moment::from_micros(i64::MAX))).await;
    for text in ["vacuum analyze rollup", "vacuum analyze work_span"] {
        raw.batch_execute(text).await.unwrap();
    }
    count
}

/// A question: its name, what it asks for, and which of the three kinds it is.
type Question = (&'static str, TrendFilter, u8);

fn last(days: u64) -> TrendFilter {
    TrendFilter {
        last_us: Some(Micros::from(Duration::from_secs(days * 86_400))),
        ..TrendFilter::default()
    }
}

fn by(by: By, filter: TrendFilter) -> TrendFilter {
    TrendFilter {
        by: Some(by),
        ..filter
    }
}

/// What pages and people ask most.
fn questions() -> Vec<Question> {
    let text = |text: &str| Some(text.to_owned());
    let pool = TrendFilter {
        pool: text("pool7"),
        ..last(365)
    };
    let team = TrendFilter {
        team: text("team7"),
        ..last(365)
    };
    let against = TrendFilter {
        compare: true,
        ..last(14)
    };
    let project = TrendFilter {
        project: text("team7/project7"),
        last_us: Some(Micros::from(Duration::from_secs(6 * 3600))),
        ..TrendFilter::default()
    };
    let longest = TrendFilter {
        limit: Some(10),
        ..last(14)
    };
    vec![
        ("a year, week by week", last(365), 0),
        ("a year, by pool", by(By::Pool, last(365)), 0),
        ("a year, by team", by(By::Team, last(365)), 0),
        ("a year, by project", by(By::Project, last(365)), 0),
        ("a year, by requirement", by(By::Requirement, last(365)), 0),
        ("a year of a pool, by project", by(By::Project, pool), 0),
        ("a year of a team, by title", by(By::Title, team), 0),
        (
            "14 days against the 14 before, by pool",
            by(By::Pool, against),
            0,
        ),
        ("a day, by pool", by(By::Pool, last(1)), 0),
        ("6 hours of a project, by title", by(By::Title, project), 0),
        ("the hours of the week of a year", last(365), 1),
        ("the ten longest waits of 14 days", longest, 2),
    ]
}

/// What is asked now and then.
fn rare_questions() -> Vec<Question> {
    let longest = TrendFilter {
        limit: Some(10),
        ..last(365)
    };
    let behind = TrendFilter {
        limit: Some(50),
        reason: Some(Reason::SeatTaken),
        last_us: Some(Micros::from(Duration::from_secs(7200))),
        ..TrendFilter::default()
    };
    vec![
        ("(others) a year, by runner", by(By::Runner, last(365)), 0),
        ("(others) a year, by title", by(By::Title, last(365)), 0),
        ("(others) the ten longest waits of a year", longest, 2),
        ("(others) 50 jobs behind two hours", behind, 2),
    ]
}

async fn bench() {
    let jobs: i64 =
        std::env::var("PENNINE_BENCH_JOBS").map_or(10_000_000, |text| text.parse().unwrap());
    let stand = stand::stand().await;
    let store = Store::open(&stand.database, &PoolSizes::default()).unwrap();
    let (raw, connection) = tokio_postgres::connect(&stand.database, NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    raw.batch_execute("set maintenance_work_mem = '512MB'; set synchronous_commit = off")
        .await
        .unwrap();
    let status = stand.client.status().await.unwrap();
    let today = Resolution::Day.start(status.now).micros();
    let mut connection = store.patient().await.unwrap();
    let first = Moment::from_micros(today - 365 * DAY);
    partition::ensure(&mut connection, first, status.now)
        .await
        .unwrap();
    // The service compacts nothing that is written here whole, once it has looked at what there was before.
    while !raw
        .query_one("select at > 'epoch' from measure_cursor", &[])
        .await
        .unwrap()
        .get::<_, bool>(0)
    {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let compacted = Resolution::TenDays.start(Moment::from_micros(today));
    let compacted = format!("update measure_cursor set compacted_until = '{compacted}'");
    raw.batch_execute(&compacted).await.unwrap();
    let begun = Instant::now();
    let count = make_history(&raw, &mut connection, today, jobs).await;
    let made = begun.elapsed();
    let rows = raw.query_one("select (select count(*) from rollup), pg_size_pretty((select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent = 'rollup'::regclass)), pg_size_pretty((select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent = 'work_span'::regclass))", &[]).await.unwrap();
    let (cells, size, raw_size): (i64, String, String) = (rows.get(0), rows.get(1), rows.get(2));
    println!(
        "{count} jobs of a year, {cells} sums in {size} (raw rows: {raw_size}), made in {} s",
        made.as_secs()
    );
    ask(&stand.client, &raw).await;
}

async fn ask(client: &pennine_client::Client, raw: &tokio_postgres::Client) {
    for (name, of, kind) in questions().iter().chain(&rare_questions()) {
        let mut times = Vec::new();
        let mut count = 0;
        for _ in 0..7 {
            let begun = Instant::now();
            count = match kind {
                0 => client.trends(of).await.unwrap().whole.wait.count,
                1 => client.week(of).await.unwrap().hours.len() as u64,
                _ => client.waits(of).await.unwrap().items.len() as u64,
            };
            times.push(begun.elapsed());
        }
        times.sort();
        println!(
            "{name:45} median {:>8.1} ms   worst {:>8.1} ms   ({count})",
            times[3].as_secs_f64() * 1e3,
            times[6].as_secs_f64() * 1e3
        );
    }
    for (name, sql) in [
        (
            "plain SQL: a year, by pool",
            "select pool_id, count(*), percentile_disc(array[0.5, 0.95]) within group (order by waited_us), sum(waited_us) from work_span where ready_at >= now() - interval '365 days' group by pool_id",
        ),
        (
            "plain SQL: a day, by pool",
            "select pool_id, count(*), percentile_disc(array[0.5, 0.95]) within group (order by waited_us), sum(waited_us) from work_span where ready_at >= now() - interval '1 day' group by pool_id",
        ),
    ] {
        let begun = Instant::now();
        raw.query(sql, &[]).await.unwrap();
        println!("{name:45} {:>8.1} ms", begun.elapsed().as_secs_f64() * 1e3);
    }
}

/// Writes sums of which none is there yet.
async fn write(raw: &tokio_postgres::Client, sums: Vec<(i16, i16, i64, Moment, Vec<u8>)>) {
    for some in sums.chunks(50_000) {
        let mut rows = String::new();
        for (resolution, kind, key, at, cell) in some {
            writeln!(
                rows,
                "{resolution}\t{kind}\t{key}\t{at}\t\\\\x{}",
                hex::encode(cell)
            )
            .unwrap();
        }
        copy(
            raw,
            "copy rollup (resolution, kind, key, at, cell) from stdin",
            rows,
        )
        .await;
    }
}

async fn copy(raw: &tokio_postgres::Client, into: &str, rows: String) {
    let into = raw.copy_in::<_, bytes::Bytes>(into).await.unwrap();
    let mut into = std::pin::pin!(into);
    futures::SinkExt::send(&mut into, bytes::Bytes::from(rows))
        .await
        .unwrap();
    into.finish().await.unwrap();
}

fn main() {
    stand::run(bench());
}
