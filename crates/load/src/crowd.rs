//! Runners and submitters of a real service.

use crate::figures::Figures;
use crate::{Error, Size, on_loopback};
use futures::{StreamExt, TryStreamExt};
use pennine_client::{Client, Route, RunnerClient};
use pennine_core::id::SessionId;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::phase::Phases;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_wire::runner_protocol::{
    Enrol, FinishedReport, PROTOCOL, Poll, RunnerReport, StartedReport,
};
use pennine_wire::{NewJob, NewPool, NewProject, NewTeam, NewTicket};
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::task::JoinSet;
use uuid::Uuid;

const PLACE: &str = "pennine-load";
/// Runners that join at once.
const JOIN_AT_ONCE: usize = 16;
/// Jobs that wait at most, for each runner.
const AHEAD: u64 = 2;

struct Crowd {
    figures: Figures,
    stop: AtomicBool,
    /// When the jobs that wait were submitted, by short name.
    submitted: Mutex<HashMap<String, Instant>>,
}

impl Crowd {
    fn over(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn trouble(&self, error: &dyn std::fmt::Display) {
        if self.figures.troubles.fetch_add(1, Ordering::Relaxed) < 5 && !self.over() {
            eprintln!("pennine-load: {error}");
        }
    }
}

/// Runs whole cycles for a while and says how many there were.
pub async fn run(url: &str, token: &str, size: Size, rate: Option<u32>) -> Result<(), Error> {
    on_loopback(url)?;
    let route = Route::default().shared()?;
    let client = Arc::new(Client::new(url, token, &route)?);
    furnish(&client).await?;
    let begun = Instant::now();
    let tag = Uuid::new_v4().simple().to_string();
    let runners: Vec<RunnerClient> = futures::stream::iter(0..size.runners)
        .map(|n| {
            join(
                &client,
                url,
                &route,
                format!("{}-{n}", &tag[..8.min(tag.len())]),
            )
        })
        .buffer_unordered(JOIN_AT_ONCE)
        .try_collect()
        .await?;
    eprintln!(
        "{} runners joined in {:.1} s",
        runners.len(),
        begun.elapsed().as_secs_f64()
    );
    let crowd = Arc::new(Crowd {
        figures: Figures::default(),
        stop: AtomicBool::new(false),
        submitted: Mutex::default(),
    });
    let mut tasks = JoinSet::new();
    for runner in runners {
        tasks.spawn(work(crowd.clone(), runner));
    }
    // All of them are there before the first job is.
    while client.status().await?.runners.available < size.runners {
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    eprintln!(
        "all of them connected after {:.1} s",
        begun.elapsed().as_secs_f64()
    );
    for n in 0..size.submitters {
        let every = rate.map(|rate| Duration::from_secs(1) * size.submitters / rate.max(1));
        let ahead = AHEAD * u64::from(size.runners);
        tasks.spawn(submit(crowd.clone(), client.clone(), n, ahead, every));
    }
    let rate = crowd.figures.watch(size.time()).await;
    crowd.stop.store(true, Ordering::Relaxed);
    tasks.abort_all();
    crowd.figures.say(
        &format!("{} runners over the real protocol", size.runners),
        rate,
    );
    Ok(())
}

async fn furnish(client: &Client) -> Result<(), Error> {
    if client
        .projects()
        .await?
        .items
        .iter()
        .any(|place| place.name == PLACE)
    {
        return Ok(());
    }
    let team = NewTeam {
        name: "load".into(),
        parent: None,
    };
    client.add_team(&team).await?;
    let project = NewProject {
        name: PLACE.into(),
        team: "load".into(),
    };
    client.add_project(&project).await?;
    let pool = NewPool {
        name: PLACE.into(),
        description: "simulated runners".into(),
        labels: vec![PLACE.into()],
        open: Some(false),
        owner: None,
        ..NewPool::default()
    };
    client.add_pool(&pool).await?;
    Ok(())
}

async fn join(
    client: &Client,
    url: &str,
    route: &Route,
    name: String,
) -> Result<RunnerClient, Error> {
    let ticket = client.add_ticket(PLACE, &NewTicket::default()).await?;
    let enrol = Enrol {
        protocol: PROTOCOL,
        ticket: ticket.secret,
        name,
        slots: 1,
        labels: Vec::new(),
        facts: about().facts,
        version: env!("CARGO_PKG_VERSION").to_owned(),
    };
    let enrolled = RunnerClient::new(url, "", route)?.enrol(&enrol).await?;
    Ok(RunnerClient::new(url, &enrolled.credential, route)?)
}

fn about() -> RunnerReport {
    RunnerReport {
        findings: Vec::new(),
        facts: [(
            "os".to_owned(),
            pennine_core::fact::FactValue::Text("linux".into()),
        )]
        .into(),
        slots: 1,
        labels: Vec::new(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
    }
}

async fn work(crowd: Arc<Crowd>, runner: RunnerClient) {
    let session = SessionId(Uuid::now_v7());
    let mut sequence = 0;
    while !crowd.over() {
        sequence += 1;
        let poll = Poll {
            protocol: PROTOCOL,
            session,
            sequence,
            free: 1,
            held: Vec::new(),
            about: (sequence == 1).then(about),
            at_once: false,
            settings_version: 0,
            leaving: false,
            room: None,
            takes_no_jobs: None,
        };
        let answer = match runner.poll(&poll).await {
            Ok(answer) => answer,
            Err(error) => {
                crowd.trouble(&error);
                tokio::time::sleep(Duration::from_millis(200)).await;
                continue;
            }
        };
        for assigned in answer.assignments {
            let begun = Instant::now();
            let submitted = crowd
                .submitted
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .remove(&assigned.job);
            let started = StartedReport {
                session,
                lease: assigned.lease,
                ago_us: Micros(0),
            };
            let finished = FinishedReport {
                session,
                lease: assigned.lease,
                result: Outcome::Success,
                exit_code: Some(0),
                message: None,
                exited_ago_us: Micros(0),
                phases: Phases::default(),
                processor_us: None,
                peak_memory: None,
                bytes_read: None,
                bytes_written: None,
                log_bytes: ByteSize(0),
                log_capped: false,
                started_ago_us: Some(begun.elapsed().into()),
            };
            let reported = async {
                runner.started(assigned.attempt, &started).await?;
                crowd
                    .figures
                    .started(submitted.map_or(Duration::ZERO, |at| at.elapsed()));
                runner.finished(assigned.attempt, &finished).await
            };
            match reported.await {
                Ok(()) => {
                    crowd.figures.finished.fetch_add(1, Ordering::Relaxed);
                }
                Err(error) => crowd.trouble(&error),
            }
        }
    }
}

async fn submit(
    crowd: Arc<Crowd>,
    client: Arc<Client>,
    n: u32,
    ahead: u64,
    every: Option<Duration>,
) {
    let new = NewJob {
        project: PLACE.into(),
        requirement: PLACE.into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };
    let mut ticks = every.map(|every| {
        let begin = tokio::time::Instant::now() + every / 16 * (n % 16);
        tokio::time::interval_at(begin, every)
    });
    while !crowd.over() {
        match &mut ticks {
            Some(ticks) => {
                ticks.tick().await;
            }
            None => {
                let figures = &crowd.figures;
                let waiting = figures
                    .submitted
                    .load(Ordering::Relaxed)
                    .saturating_sub(figures.finished.load(Ordering::Relaxed));
                if waiting >= ahead {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                    continue;
                }
            }
        }
        let at = Instant::now();
        match client.submit(&new, None).await {
            Ok(taken) => {
                crowd.figures.submitted.fetch_add(1, Ordering::Relaxed);
                crowd
                    .submitted
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .insert(taken.job.name, at);
            }
            Err(error) => crowd.trouble(&error),
        }
    }
}
