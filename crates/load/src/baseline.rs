//! The plainest queue in PostgreSQL behind the same kind of HTTP front, to compare with: a row for each job, taken one at
//! a time with `FOR UPDATE SKIP LOCKED`.

use crate::figures::Figures;
use crate::{Error, Size, on_loopback};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::post;
use axum::{Json, Router};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::task::JoinSet;
use tokio_postgres::{Client, NoTls, Statement};

struct Front {
    connections: Vec<Connection>,
    next: AtomicUsize,
}

struct Connection {
    client: Client,
    submit: Statement,
    take: Statement,
    start: Statement,
    finish: Statement,
}

impl Front {
    fn connection(&self) -> Option<&Connection> {
        let at = self.next.fetch_add(1, Ordering::Relaxed);
        self.connections.get(at % self.connections.len().max(1))
    }
}

type Answer<T> = Result<T, StatusCode>;

fn broken<E>(_: E) -> StatusCode {
    StatusCode::SERVICE_UNAVAILABLE
}

async fn submit(State(front): State<Arc<Front>>) -> Answer<Json<i64>> {
    let connection = front.connection().ok_or(StatusCode::SERVICE_UNAVAILABLE)?;
    let row = connection
        .client
        .query_one(&connection.submit, &[])
        .await
        .map_err(broken)?;
    Ok(Json(row.get(0)))
}

async fn take(State(front): State<Arc<Front>>) -> Answer<Json<Option<i64>>> {
    let connection = front.connection().ok_or(StatusCode::SERVICE_UNAVAILABLE)?;
    let row = connection
        .client
        .query_opt(&connection.take, &[])
        .await
        .map_err(broken)?;
    Ok(Json(row.map(|row| row.get(0))))
}

async fn start(State(front): State<Arc<Front>>, Path(id): Path<i64>) -> Answer<()> {
    let connection = front.connection().ok_or(StatusCode::SERVICE_UNAVAILABLE)?;
    connection
        .client
        .execute(&connection.start, &[&id])
        .await
        .map_err(broken)?;
    Ok(())
}

async fn finish(State(front): State<Arc<Front>>, Path(id): Path<i64>) -> Answer<()> {
    let connection = front.connection().ok_or(StatusCode::SERVICE_UNAVAILABLE)?;
    connection
        .client
        .execute(&connection.finish, &[&id])
        .await
        .map_err(broken)?;
    Ok(())
}

async fn connect(database: &str) -> Result<Client, Error> {
    let (client, connection) = tokio_postgres::connect(database, NoTls).await?;
    tokio::spawn(connection);
    Ok(client)
}

const TABLE: &str = "
  drop table if exists pennine_load_job;
  create table pennine_load_job (
    id bigserial primary key, state text not null default 'waiting', ready_at timestamptz not null default clock_timestamp(),
    started_at timestamptz, finished_at timestamptz);
  create index pennine_load_waiting on pennine_load_job (ready_at, id) where state = 'waiting'";

/// Runs the cycles for a while and says how many there were.
pub async fn run(database: &str, size: Size, connections: usize) -> Result<(), Error> {
    on_loopback(database)?;
    let owner = connect(database).await?;
    owner.batch_execute(TABLE).await?;
    let mut front = Front {
        connections: Vec::new(),
        next: AtomicUsize::new(0),
    };
    for _ in 0..connections.clamp(1, 64) {
        let client = connect(database).await?;
        front.connections.push(Connection {
            submit: client.prepare("insert into pennine_load_job default values returning id").await?,
            take: client
                .prepare(
                    "update pennine_load_job set state = 'assigned' where id = (
                       select id from pennine_load_job where state = 'waiting' order by ready_at, id limit 1
                       for update skip locked) returning id",
                )
                .await?,
            start: client.prepare("update pennine_load_job set state = 'executing', started_at = clock_timestamp() where id = $1").await?,
            finish: client.prepare("update pennine_load_job set state = 'done', finished_at = clock_timestamp() where id = $1").await?,
            client,
        });
    }
    let routes = Router::new()
        .route("/submit", post(submit))
        .route("/take", post(take))
        .route("/{id}/start", post(start))
        .route("/{id}/finish", post(finish))
        .with_state(Arc::new(front));
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0)).await?;
    let url = format!("http://{}", listener.local_addr()?);
    let server = tokio::spawn(async move { axum::serve(listener, routes).await });
    let figures = Arc::new(Figures::default());
    let stop = Arc::new(AtomicBool::new(false));
    pennine_client::choose_cryptography();
    let http = reqwest::Client::builder().tcp_nodelay(true).build()?;
    let mut tasks = JoinSet::new();
    for _ in 0..size.runners {
        let (figures, stop, http, url) = (figures.clone(), stop.clone(), http.clone(), url.clone());
        tasks.spawn(async move {
            while !stop.load(Ordering::Relaxed) {
                match cycle(&http, &url).await {
                    Ok(true) => {
                        figures.finished.fetch_add(1, Ordering::Relaxed);
                    }
                    // Nothing waited: such a queue can only be asked again.
                    Ok(false) => tokio::time::sleep(Duration::from_millis(20)).await,
                    Err(_) => {
                        figures.troubles.fetch_add(1, Ordering::Relaxed);
                        tokio::time::sleep(Duration::from_millis(200)).await;
                    }
                }
            }
        });
    }
    for _ in 0..size.submitters {
        let (figures, stop, http, url) = (figures.clone(), stop.clone(), http.clone(), url.clone());
        let ahead = 2 * u64::from(size.runners);
        tasks.spawn(async move {
            while !stop.load(Ordering::Relaxed) {
                let waiting = figures
                    .submitted
                    .load(Ordering::Relaxed)
                    .saturating_sub(figures.finished.load(Ordering::Relaxed));
                if waiting >= ahead {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                } else if http
                    .post(format!("{url}/submit"))
                    .send()
                    .await
                    .is_ok_and(|answer| answer.status().is_success())
                {
                    figures.submitted.fetch_add(1, Ordering::Relaxed);
                } else {
                    figures.troubles.fetch_add(1, Ordering::Relaxed);
                }
            }
        });
    }
    let rate = figures.watch(size.time()).await;
    stop.store(true, Ordering::Relaxed);
    tasks.abort_all();
    server.abort();
    figures.say(
        &format!("{} clients of a plain queue behind HTTP", size.runners),
        rate,
    );
    // Without HTTP: how fast the queue itself gives rows out, one at a time.
    bare(
        database,
        connections,
        size.time().min(Duration::from_secs(20)),
    )
    .await?;
    owner.batch_execute("drop table pennine_load_job").await?;
    Ok(())
}

async fn cycle(http: &reqwest::Client, url: &str) -> Result<bool, reqwest::Error> {
    let taken: Option<i64> = http
        .post(format!("{url}/take"))
        .send()
        .await?
        .error_for_status()?
        .json()
        .await?;
    let Some(id) = taken else { return Ok(false) };
    http.post(format!("{url}/{id}/start"))
        .send()
        .await?
        .error_for_status()?;
    http.post(format!("{url}/{id}/finish"))
        .send()
        .await?
        .error_for_status()?;
    Ok(true)
}

async fn bare(database: &str, connections: usize, time: Duration) -> Result<(), Error> {
    let owner = connect(database).await?;
    owner.batch_execute("truncate pennine_load_job; insert into pennine_load_job (state) select 'waiting' from generate_series(1, 400000)").await?;
    let begun = Instant::now();
    let mut tasks = JoinSet::new();
    for _ in 0..connections {
        let client = connect(database).await?;
        tasks.spawn(async move {
            let take = client
                .prepare(
                    "update pennine_load_job set state = 'assigned' where id = (
                       select id from pennine_load_job where state = 'waiting' order by ready_at, id limit 1
                       for update skip locked) returning id",
                )
                .await?;
            let mut taken = 0u64;
            while begun.elapsed() < time && client.query_opt(&take, &[]).await?.is_some() {
                taken += 1;
            }
            Ok::<u64, tokio_postgres::Error>(taken)
        });
    }
    let mut taken = 0;
    while let Some(done) = tasks.join_next().await {
        if let Ok(count) = done {
            taken += count?;
        }
    }
    println!(
        "bare dequeue, without HTTP, {connections} connections: {:.0} rows/s",
        taken as f64 / begun.elapsed().as_secs_f64()
    );
    Ok(())
}
