//! A long fault test: replicas, runners and PostgreSQL are killed and stopped at random while jobs come and go, and then it is
//! checked that no job was lost, none had two accepted ends, all logs are whole, and every submission was taken exactly once.
//!
//! ```text
//!   submitters ──┐                 ┌── replica 1 ──┐
//!                ├── proxy (cuts) ─┼── replica 2 ──┼── PostgreSQL
//!   runners ─────┘                 └── replica 3 ──┘
//! ```
//! The order of the faults follows from the seed; when each one meets what it meets does not.

mod faults;
mod jobs;
mod processes;
mod proxy;

use crate::Error;
use faults::{Fault, Plan};
use jobs::{Findings, SubmittedJobs};
use pennine_client::{Client, Route};
use pennine_core::job_policy::IsolationLevel;
use pennine_wire::{JobPolicyChange, NewPool, NewProject, NewTeam};
use processes::{Database, Processes};
use proxy::Proxy;
use std::path::PathBuf;
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;

/// How long the service has to become ready at the start, and to finish all jobs at the end.
const PATIENCE: Duration = Duration::from_secs(300);
/// The pool, and the project, of all jobs.
const POOL: &str = "staithe";
const PROJECT: &str = "firmware/buoy";

/// What a fault test works with.
#[derive(clap::Args, Clone)]
pub struct Chaos {
    /// The folder of the built programs.
    #[arg(long, default_value = "target/release")]
    programs: PathBuf,
    /// A folder for the database, the data of the replicas, the runners and the logs of all. It must not exist.
    #[arg(long, default_value = "target/chaos")]
    dir: PathBuf,
    /// Decides which faults come in which order.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Seconds in which faults come.
    #[arg(long = "for", default_value_t = 600, value_parser = clap::value_parser!(u64).range(10..=7200))]
    seconds: u64,
    /// Replicas of the service.
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u8).range(1..=5))]
    replicas: u8,
    /// Runners, of two slots each.
    #[arg(long, default_value_t = 6, value_parser = clap::value_parser!(u8).range(1..=20))]
    runners: u8,
    /// Jobs that are submitted each second.
    #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u8).range(1..=50))]
    rate: u8,
}

/// Runs the test. Says what it finds, and fails if that is anything.
pub async fn run(chaos: Chaos) -> Result<(), Error> {
    if chaos.dir.exists() {
        return Err(Error::Chaos(format!(
            "{} is there already: remove it, or choose another --dir",
            chaos.dir.display()
        )));
    }
    std::fs::create_dir_all(&chaos.dir)?;
    let dir = std::fs::canonicalize(&chaos.dir)?;
    let database = Database::start(&dir)?;
    let mut processes = Processes::new(std::fs::canonicalize(&chaos.programs)?, dir.clone());
    for _ in 0..chaos.replicas {
        processes.add_replica(&database.url)?;
    }
    let proxy = Proxy::start(processes.replica_addresses()).await?;
    let token = processes.token().await?;
    let client = Client::new(&proxy.url, &token, &Route::default())?;
    until("the service is ready", || async {
        client.status().await.ok()
    })
    .await?;
    furnish(&client).await?;
    for _ in 0..chaos.runners {
        let ticket = client.add_ticket(POOL, &Default::default()).await?;
        processes.add_runner(&proxy.url, &ticket.secret)?;
    }
    println!(
        "{} replicas, {} runners, PostgreSQL; seed {}, {} s. Everything lies in {}.",
        chaos.replicas,
        chaos.runners,
        chaos.seed,
        chaos.seconds,
        dir.display()
    );

    let effects = dir.join("effects");
    jobs::make_effects(&effects)?;
    let stop = CancellationToken::new();
    let submitting = tokio::spawn(jobs::submit_until(
        client.clone(),
        effects,
        chaos.seed,
        chaos.rate,
        stop.clone(),
    ));
    let plan = Plan::new(chaos.seed, chaos.replicas.into(), chaos.runners.into());
    let happened = cause(plan, chaos.seconds, &mut processes, &database, &proxy).await?;
    stop.cancel();
    let submitted = submitting.await.map_err(|e| Error::Chaos(e.to_string()))?;
    processes.all_run()?;
    let findings = check(&client, &submitted).await?;
    println!("{happened}\n{}", findings.summary());
    if findings.problems.is_empty() {
        drop((processes, database));
        std::fs::remove_dir_all(&dir)?;
        return Ok(());
    }
    for problem in &findings.problems {
        println!("  {problem}");
    }
    Err(Error::Chaos(format!(
        "{} problems; the logs of all are in {}",
        findings.problems.len(),
        dir.display()
    )))
}

async fn furnish(client: &Client) -> Result<(), Error> {
    let (team, project) = PROJECT.split_once('/').unwrap_or(("", PROJECT));
    let new = NewTeam {
        name: team.into(),
        parent: None,
    };
    client.add_team(&new).await?;
    let new = NewProject {
        name: project.into(),
        team: team.into(),
    };
    client.add_project(&new).await?;
    // Jobs leave marks outside their folders, which the test reads.
    let jobs = JobPolicyChange {
        isolation: Some(IsolationLevel::None),
        ..JobPolicyChange::default()
    };
    let pool = NewPool {
        name: POOL.into(),
        open: Some(true),
        jobs: Some(jobs),
        ..NewPool::default()
    };
    client.add_pool(&pool).await?;
    Ok(())
}

/// Lets faults happen for a time. Returns how many of each there were.
async fn cause(
    mut plan: Plan,
    seconds: u64,
    processes: &mut Processes,
    database: &Database,
    proxy: &Proxy,
) -> Result<faults::Tally, Error> {
    let begun = Instant::now();
    let mut happened = faults::Tally::default();
    while begun.elapsed() < Duration::from_secs(seconds) {
        let (pause, fault) = plan.next();
        tokio::time::sleep(pause).await;
        println!("{:>5} s  {fault}", begun.elapsed().as_secs());
        happened.count(&fault);
        match fault {
            Fault::KillReplica { number, away } => {
                processes.kill_replica(number)?;
                tokio::time::sleep(away).await;
                processes.start_replica(number)?;
            }
            Fault::StopReplica { number, away } => {
                processes.signal_replica(number, "STOP")?;
                tokio::time::sleep(away).await;
                processes.signal_replica(number, "CONT")?;
            }
            Fault::KillRunner { number, away } => {
                processes.kill_runner(number)?;
                tokio::time::sleep(away).await;
                processes.start_runner(number)?;
            }
            Fault::StopRunner { number, away } => {
                processes.signal_runner(number, "STOP")?;
                tokio::time::sleep(away).await;
                processes.signal_runner(number, "CONT")?;
            }
            Fault::KillDatabase { away } => {
                database.kill()?;
                tokio::time::sleep(away).await;
                database.start_again()?;
            }
            Fault::CutConnections => proxy.cut(),
        }
    }
    Ok(happened)
}

/// Waits until every job is over, then looks at each.
async fn check(client: &Client, submitted: &SubmittedJobs) -> Result<Findings, Error> {
    until("all jobs are over", || async {
        let status = client.status().await.ok()?;
        (status.waiting == 0 && status.executing == 0).then_some(())
    })
    .await?;
    jobs::examine(client, submitted).await
}

/// Waits for a condition.
async fn until<T, F: Future<Output = Option<T>>>(
    what: &str,
    look: impl Fn() -> F,
) -> Result<T, Error> {
    let begun = Instant::now();
    loop {
        if let Some(found) = look().await {
            return Ok(found);
        }
        if begun.elapsed() > PATIENCE {
            return Err(Error::Chaos(format!("waited {PATIENCE:?} in vain: {what}")));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
