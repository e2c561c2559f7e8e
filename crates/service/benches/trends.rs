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
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::{Resolution, WorkSpan};
use pennine_core::time::{Micros, Moment};
use pennine_core::wait::Span;
use pennine_store::rollup::{KeyCache, RollupKind, Sums};
use pennine_store::{Store, partition};
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

struct Drawn {
    stint: WorkSpan,
    pool: usize,
    project: usize,
    requirement: usize,
    title: usize,
    runner: usize,
}

fn draw(lots: &mut StdRng, day: i64) -> Drawn {
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
    Drawn {
        stint: WorkSpan {
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

async fn bench() {
    let jobs: i64 =
        std::env::var("PENNINE_BENCH_JOBS").map_or(10_000_000, |text| text.parse().unwrap());
    let stand = stand::stand().await;
    let store = Store::open(&stand.database, 4).unwrap();
    let (raw, connection) = tokio_postgres::connect(&stand.database, NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    raw.batch_execute("set maintenance_work_mem = '512MB'; set synchronous_commit = off")
        .await
        .unwrap();
    let status = stand.client.status().await.unwrap();
    let today = Resolution::Day.start(status.now).micros();
    let first = today - 365 * DAY;
    let mut connection = store.patient().await.unwrap();
    partition::ensure(&mut connection, Moment::from_micros(first), status.now)
        .await
        .unwrap();
    // The things that there were.
    let (pools, projects, runners) = (named(POOLS, 1), named(PROJECTS, 2), named(RUNNERS, 3));
    let mut text = String::new();
    for (n, id) in projects.iter().enumerate() {
        let team = n % 50;
        if n < 50 {
            let team_id = Uuid::from_u128((0xbe7c << 112) | (9 << 64) | n as u128);
            writeln!(text, "insert into place (id, kind, name, path, parent_id, created_at) select '{team_id}', 'team', 'team{n}', 'team{n}', id, now() from place where kind = 'root';").unwrap();
        }
        let team_id = Uuid::from_u128((0xbe7c << 112) | (9 << 64) | team as u128);
        writeln!(text, "insert into place (id, kind, name, path, parent_id, created_at) values ('{id}', 'project', 'project{n}', 'team{team}/project{n}', '{team_id}', now());").unwrap();
    }
    for (n, id) in pools.iter().enumerate() {
        writeln!(text, "insert into pool (id, name, description, owner_id, labels, open, policy_version, created_at) select '{id}', 'pool{n}', '', id, '{{}}', true, 1, now() from place where kind = 'root';").unwrap();
    }
    for (n, id) in runners.iter().enumerate() {
        let pool = pools[n % POOLS];
        writeln!(text, "insert into runner (id, pool_id, name, state, state_since, state_why, slots, labels, facts, facts_version, program, created_at) values ('{id}', '{pool}', 'runner{n}', 'offline', now(), '', 1, '{{}}', '{{}}', 0, '', now());").unwrap();
    }
    raw.batch_execute(&text).await.unwrap();

    let begun = Instant::now();
    let mut known = KeyCache::default();
    let mut lots = StdRng::seed_from_u64(7);
    let key = |kind, text: String| (kind, text);
    let mut all = vec![key(RollupKind::Yard, String::new())];
    all.extend(pools.iter().map(|id| key(RollupKind::Pool, id.to_string())));
    all.extend(
        projects
            .iter()
            .map(|id| key(RollupKind::Project, id.to_string())),
    );
    all.extend(
        (0..REQUIREMENTS).map(|n| key(RollupKind::Requirement, format!("linux and tool{n}"))),
    );
    all.extend((0..PROJECTS * TITLES).map(|n| {
        key(
            RollupKind::Title,
            format!("{}/work {}", projects[n / TITLES], n % TITLES),
        )
    }));
    all.extend(
        runners
            .iter()
            .map(|id| key(RollupKind::Runner, id.to_string())),
    );
    for pool in &pools {
        all.extend(
            projects
                .iter()
                .map(|id| key(RollupKind::PoolProject, format!("{pool}/{id}"))),
        );
    }
    let numbers = known
        .numbers(&mut connection, all.iter().cloned())
        .await
        .unwrap()
        .clone();
    let number = |kind: RollupKind, text: String| numbers[&(kind, text)];
    let yard = number(RollupKind::Yard, String::new());
    let by = |kind: RollupKind, ids: &[Uuid]| -> Vec<i64> {
        ids.iter().map(|id| number(kind, id.to_string())).collect()
    };
    let (pool_keys, project_keys, runner_keys) = (
        by(RollupKind::Pool, &pools),
        by(RollupKind::Project, &projects),
        by(RollupKind::Runner, &runners),
    );
    let requirement_keys: Vec<i64> = (0..REQUIREMENTS)
        .map(|n| number(RollupKind::Requirement, format!("linux and tool{n}")))
        .collect();
    let title_keys: Vec<i64> = (0..PROJECTS * TITLES)
        .map(|n| {
            number(
                RollupKind::Title,
                format!("{}/work {}", projects[n / TITLES], n % TITLES),
            )
        })
        .collect();
    let pair_keys: Vec<i64> = (0..POOLS * PROJECTS)
        .map(|n| {
            number(
                RollupKind::PoolProject,
                format!("{}/{}", pools[n / PROJECTS], projects[n % PROJECTS]),
            )
        })
        .collect();
    // Sums of five minutes are kept for fifteen days.
    let fine = today - 15 * DAY;
    let hours = today - 35 * DAY;
    // The service draws nothing together that is written here whole, once it has looked at what there was before.
    while !raw
        .query_one("select at > 'epoch' from measure_cursor", &[])
        .await
        .unwrap()
        .get::<_, bool>(0)
    {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let drawn = Resolution::TenDays.start(Moment::from_micros(today));
    let drawn = format!("update measure_cursor set compacted_until = '{drawn}'");
    raw.batch_execute(&drawn).await.unwrap();
    let mut count = 0i64;
    let mut sums = Sums::default();
    for day in 0..365 {
        let begins = first + day * DAY;
        let at = Moment::from_micros(begins);
        if Resolution::Month.start(at) == at {
            write(&raw, sums.take_before(at)).await;
        }
        let mut rows = String::new();
        for _ in 0..jobs / 365 {
            let one = draw(&mut lots, begins);
            let keys = [
                (RollupKind::Yard, yard),
                (RollupKind::Pool, pool_keys[one.pool]),
                (RollupKind::Project, project_keys[one.project]),
                (RollupKind::Requirement, requirement_keys[one.requirement]),
                (RollupKind::Title, title_keys[one.title]),
                (RollupKind::Runner, runner_keys[one.runner]),
                (
                    RollupKind::PoolProject,
                    pair_keys[one.pool * PROJECTS + one.project],
                ),
            ];
            for grain in Resolution::ALL {
                if grain == Resolution::FiveMinutes && begins < fine {
                    continue;
                }
                for (at, cell) in one.stint.cells(grain) {
                    for (kind, key) in keys {
                        if !(grain == Resolution::Hour && kind.many() && begins < hours) {
                            sums.add((grain, kind, key, at), &cell);
                        }
                    }
                }
            }
            count += 1;
            let id =
                Uuid::from_u128(((one.stint.ready.micros() / 1000) as u128) << 80 | count as u128);
            let mut reasons = vec![0u64; Reason::ALL.len()];
            for span in &one.stint.wait {
                let place = Reason::ALL
                    .iter()
                    .position(|reason| *reason == span.reason)
                    .unwrap();
                reasons[place] += span.length_us.0;
            }
            let reasons: Vec<String> = reasons.iter().map(u64::to_string).collect();
            writeln!(
                rows,
                "{id}\t{id}\t{count}\t{}\t{}\t{}\t{}\t{}\t{}\t{}\t{{{}}}\t{}\t{}\t{}\t{}\t{}\tf\t{}\t{}",
                projects[one.project], pools[one.pool], runners[one.runner], requirement_keys[one.requirement],
                title_keys[one.title], one.stint.ready, one.stint.waited(), reasons.join(","),
                one.stint.assigned.unwrap(), one.stint.started.unwrap(), one.stint.ended, one.stint.ended,
                one.stint.result.unwrap(), one.stint.processor, one.stint.peak_memory
            )
            .unwrap();
        }
        copy(&raw, "copy stint (id, job_id, job_number, project_id, pool_id, runner_id, requirement, title, ready_at, waited_us, reasons, assigned_at, started_at, exited_at, ended_at, result, lost, processor_us, peak_memory) from stdin", rows).await;
    }
    write(&raw, sums.take_before(Moment::from_micros(i64::MAX))).await;
    for text in ["vacuum analyze rollup", "vacuum analyze stint"] {
        raw.batch_execute(text).await.unwrap();
    }
    let made = begun.elapsed();
    let rows = raw.query_one("select (select count(*) from rollup), pg_size_pretty((select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent = 'rollup'::regclass)), pg_size_pretty((select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent = 'stint'::regclass))", &[]).await.unwrap();
    let (cells, size, raw_size): (i64, String, String) = (rows.get(0), rows.get(1), rows.get(2));
    println!(
        "{count} jobs of a year, {cells} sums in {size} (raw rows: {raw_size}), made in {} s",
        made.as_secs()
    );

    let last = |days: u64| TrendFilter {
        last_us: Some(Micros::from(Duration::from_secs(days * 86_400))),
        ..TrendFilter::default()
    };
    let year = || last(365);
    let text = |text: &str| Some(text.to_owned());
    let client = &stand.client;
    let questions: Vec<(&str, TrendFilter, u8)> = vec![
        ("a year, week by week", year(), 0),
        (
            "a year, by pool",
            TrendFilter {
                by: Some(By::Pool),
                ..year()
            },
            0,
        ),
        (
            "a year, by team",
            TrendFilter {
                by: Some(By::Team),
                ..year()
            },
            0,
        ),
        (
            "a year, by project",
            TrendFilter {
                by: Some(By::Project),
                ..year()
            },
            0,
        ),
        (
            "a year, by requirement",
            TrendFilter {
                by: Some(By::Requirement),
                ..year()
            },
            0,
        ),
        (
            "a year of a pool, by project",
            TrendFilter {
                pool: text("pool7"),
                by: Some(By::Project),
                ..year()
            },
            0,
        ),
        (
            "a year of a team, by title",
            TrendFilter {
                team: text("team7"),
                by: Some(By::Title),
                ..year()
            },
            0,
        ),
        (
            "14 days against the 14 before, by pool",
            TrendFilter {
                by: Some(By::Pool),
                compare: true,
                ..last(14)
            },
            0,
        ),
        (
            "a day, by pool",
            TrendFilter {
                by: Some(By::Pool),
                ..last(1)
            },
            0,
        ),
        (
            "6 hours of a project, by title",
            TrendFilter {
                project: text("team7/project7"),
                by: Some(By::Title),
                last_us: Some(Micros::from(Duration::from_secs(6 * 3600))),
                ..TrendFilter::default()
            },
            0,
        ),
        ("the hours of the week of a year", year(), 1),
        (
            "the ten longest waits of 14 days",
            TrendFilter {
                limit: Some(10),
                ..last(14)
            },
            2,
        ),
        (
            "(others) a year, by runner",
            TrendFilter {
                by: Some(By::Runner),
                ..year()
            },
            0,
        ),
        (
            "(others) a year, by title",
            TrendFilter {
                by: Some(By::Title),
                ..year()
            },
            0,
        ),
        (
            "(others) the ten longest waits of a year",
            TrendFilter {
                limit: Some(10),
                ..year()
            },
            2,
        ),
        (
            "(others) 50 jobs behind two hours",
            TrendFilter {
                limit: Some(50),
                reason: Some(Reason::SeatTaken),
                last_us: Some(Micros::from(Duration::from_secs(7200))),
                ..TrendFilter::default()
            },
            2,
        ),
    ];
    for (name, of, kind) in &questions {
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
            "select pool_id, count(*), percentile_disc(array[0.5, 0.95]) within group (order by waited_us), sum(waited_us) from stint where ready_at >= now() - interval '365 days' group by pool_id",
        ),
        (
            "plain SQL: a day, by pool",
            "select pool_id, count(*), percentile_disc(array[0.5, 0.95]) within group (order by waited_us), sum(waited_us) from stint where ready_at >= now() - interval '1 day' group by pool_id",
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
        for (grain, kind, key, at, cell) in some {
            writeln!(
                rows,
                "{grain}\t{kind}\t{key}\t{at}\t\\\\x{}",
                hex::encode(cell)
            )
            .unwrap();
        }
        copy(
            raw,
            "copy rollup (grain, kind, key, at, cell) from stdin",
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
