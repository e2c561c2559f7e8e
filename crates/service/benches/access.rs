//! What it costs to find out who asks, in an installation of 100,000 tokens, 10,000 people and 10,000 runners; and how long a revoked
//! token is still accepted by another replica.
//!
//! `cargo bench -p pennined --bench access`, with a cluster and release programs as for `submit_to_started`.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

#[allow(dead_code)]
mod stand;

use pennine_client::{Client, Route};
use pennine_core::access::Role;
use pennine_store::{Store, outbox};
use pennine_wire::{NewPool, NewTeam, NewToken};
use pennined::app::{App, Parts};
use pennined::background::TaskTurns;
use pennined::clock::Clock;
use pennined::config::Config;
use pennined::feed::Feed;
use pennined::installation;
use pennined::log_store::LogStore;
use pennined::objects::Objects;
use pennined::operations::people::session::by_token;
use stand::{Stand, report, stand};
use std::time::{Duration, Instant};
use tokio_postgres::NoTls;
use tokio_util::sync::CancellationToken;

const TOKENS: usize = 100_000;
const PEOPLE: usize = 10_000;
const RUNNERS: usize = 10_000;
/// Decisions that are timed together: one alone is shorter than the clock can tell.
const TOGETHER: u32 = 200;

/// Every fifth token is of the root, the others of the team; half of the runners are in the team's pool.
fn rows() -> String {
    format!(
        "insert into token (id, name, secret_hash, role, place_id, created_at, created_by, renewed_at, expires_at)
           select gen_random_uuid(), 'robot-' || n, sha256(('pen-token-bench-' || n)::bytea), 'viewer',
                  (select id from place where path = case n % 5 when 0 then '' else 'firmware' end),
                  now(), 'bench', now(), now() + interval '30 days'
           from generate_series(1, {TOKENS}) n;
         insert into person (id, name, full_name, created_at, created_by)
           select gen_random_uuid(), 'person-' || n, 'Person ' || n, now(), 'bench' from generate_series(1, {PEOPLE}) n;
         insert into person_grant (person_id, place_id, role, granted_at, granted_by)
           select id, (select id from place where path = 'firmware'), 'viewer', now(), 'bench' from person where created_by = 'bench';
         insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version, program, created_at)
           select gen_random_uuid(), (select id from pool where name = case n % 2 when 0 then 'arm-loft' else 'jetty' end),
                  'fell-' || n, 'offline', now(), 'no news', 2, array['rack-' || n % 50],
                  jsonb_build_object('os', 'linux', 'arch', 'x86_64', 'cores', 8, 'mem', '32GiB', 'host', 'fell-' || n), 1, '0.1.0', now()
           from generate_series(1, {RUNNERS}) n;
         analyze;"
    )
}

/// A replica in this process that serves nothing, on the same database and data folder.
async fn replica(stand: &Stand) -> App {
    let mut config = Config::load(None).unwrap();
    config.database_url.clone_from(&stand.database);
    config.data_dir = stand.data.path().to_owned();
    let store = Store::open(&config.database_url, &config.database_connections).unwrap();
    let now = outbox::moment(&mut store.tasks().await.unwrap())
        .await
        .unwrap();
    let objects = Objects::of(&config).unwrap();
    let (found, encryption) = installation::open(&config, &store, &objects, now)
        .await
        .unwrap();
    App::new(Parts {
        turns: TaskTurns::new(None),
        outgoing: config.outgoing.policy().unwrap(),
        authority: None,
        public_url: stand.address.clone(),
        config,
        store,
        clock: Clock::starting_at(now),
        installation: found,
        encryption,
        feed: Feed::default(),
        logs: LogStore::new(objects),
        stop: CancellationToken::new(),
    })
}

/// Authenticating a request: from the cache, and where the token was not shown just before.
async fn authentication(app: &App) {
    let mut cached = Vec::new();
    for _ in 0..500 {
        let begun = Instant::now();
        for _ in 0..TOGETHER {
            by_token(app, "pen-token-bench-1", None).await.unwrap();
        }
        cached.push(begun.elapsed() / TOGETHER);
    }
    // A round of these is looked up again when the cache's time is over; the median is of the cache.
    cached.sort();
    let at = |share: f64| cached[(cached.len() as f64 * share) as usize].as_secs_f64() * 1e6;
    println!(
        "{:28} p50 {:>8.2} us   p95 {:>8.2} us",
        "token, from the cache",
        at(0.5),
        at(0.95)
    );
    let mut fresh = Vec::new();
    for number in (1..TOKENS).step_by(TOKENS / 1000) {
        let secret = format!("pen-token-bench-{number}");
        let begun = Instant::now();
        by_token(app, &secret, None).await.unwrap();
        fresh.push(begun.elapsed());
    }
    report("token, looked up", fresh);
}

/// How long another replica still accepts a token that was revoked.
async fn revocation(stand: &Stand, app: &App) {
    let mut lasted = Vec::new();
    for number in 0..20 {
        let name = format!("leaked-{number}");
        let new = NewToken {
            name: name.clone(),
            role: Role::Viewer,
            place: String::new(),
            purpose: None,
            lifetime_us: None,
            is_own: false,
        };
        let secret = stand.client.add_token(&new).await.unwrap().secret;
        by_token(app, &secret, None).await.unwrap();
        stand.client.revoke_token(&name).await.unwrap();
        let begun = Instant::now();
        while by_token(app, &secret, None).await.is_ok() {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        lasted.push(begun.elapsed());
    }
    report("revoked, at another replica", lasted);
}

async fn asked(name: &str, secret: &str, url: &str) {
    let http = reqwest::Client::new();
    let (mut times, mut bytes) = (Vec::new(), 0);
    for _ in 0..20 {
        let begun = Instant::now();
        let answer = http.get(url).bearer_auth(secret).send().await.unwrap();
        let answer = answer.error_for_status().unwrap();
        bytes = answer.bytes().await.unwrap().len();
        times.push(begun.elapsed());
    }
    report(name, times);
    println!("{:28} {:.1} kB", "", bytes as f64 / 1e3);
}

async fn bench() {
    let stand = stand().await;
    let (name, parent) = ("shore".into(), None);
    let shore = NewTeam { name, parent };
    stand.client.add_team(&shore).await.unwrap();
    for (name, owner) in [("arm-loft", "firmware"), ("jetty", "shore")] {
        let pool = NewPool {
            name: name.into(),
            owner: Some(owner.into()),
            ..NewPool::default()
        };
        stand.client.add_pool(&pool).await.unwrap();
    }
    let (database, connection) = tokio_postgres::connect(&stand.database, NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    database.batch_execute(&rows()).await.unwrap();
    let app = replica(&stand).await;
    authentication(&app).await;
    revocation(&stand, &app).await;
    // What a viewer of the team sees: half of the runners.
    let team = "pen-token-bench-1";
    let address = &stand.address;
    asked(
        "runners of a place",
        team,
        &format!("{address}/api/v1/runners"),
    )
    .await;
    let client = Client::new(address, team, &Route::default()).unwrap();
    let runners = client.runners(&Default::default()).await.unwrap().items;
    assert_eq!(runners.len(), RUNNERS / 2);
    let admin = std::fs::read_to_string(stand.data.path().join("admin.token")).unwrap();
    let admin = admin.trim();
    asked(
        "tokens, the first 1,000",
        admin,
        &format!("{address}/api/v1/tokens"),
    )
    .await;
    asked(
        "tokens, searched",
        admin,
        &format!("{address}/api/v1/tokens?search=robot-99999"),
    )
    .await;
    asked("people", admin, &format!("{address}/api/v1/people")).await;
}

fn main() {
    stand::run(bench());
}
