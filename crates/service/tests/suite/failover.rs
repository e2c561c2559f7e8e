//! The database is lost and another takes over; its disk fills up and is freed.

use crate::faults::{furnish, join, submit, when, whole_log};
use crate::support::{ServiceProcess, free_port, shared, token_in, until};
use pennine_client::{Client, JobListFilter, Route, TrendFilter};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Micros;
use pennine_testing::cluster::Cluster;
use pennine_wire::NewJob;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Jobs go on within this of the promotion: the goal is 10 s on a quiet machine.
const GOES_ON: Duration = Duration::from_secs(30);

/// The pause between two submissions.
const PACE: Duration = Duration::from_millis(50);

fn job(script: &str) -> NewJob {
    NewJob {
        project: "firmware/buoy".into(),
        command: vec!["sh".into(), "-c".into(), script.into()],
        ..NewJob::default()
    }
}

/// Submits one job after the other until told to stop. Returns the acknowledged ones.
async fn submit_until(client: Client, stop: Arc<AtomicBool>) -> Vec<String> {
    let mut acknowledged = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        if let Ok(taken) = client.submit(&job("true"), None).await {
            acknowledged.push(taken.job.name);
        }
        tokio::time::sleep(PACE).await;
    }
    acknowledged
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lost_primary_whose_standby_is_promoted_loses_nothing_that_was_acknowledged() {
    let primary = Cluster::start(&[]);
    let standby = primary.standby().await;
    let (user, _) = primary.url.rsplit_once('@').unwrap();
    let url = format!(
        "{user}@{},{}/postgres?target_session_attrs=read-write",
        primary.host(),
        standby.host()
    );
    let data = tempfile::tempdir().unwrap();
    let mut service = ServiceProcess::start(&url, data.path(), free_port()).await;
    let client = Client::new(&service.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    let home = tempfile::tempdir().unwrap();
    let _runner = join(&client, &service.url, home.path()).await;
    // One job executes all the time.
    let go = shared(home.path()).join("go");
    let script = format!("while [ ! -e {} ]; do sleep 0.1; done", go.display());
    let long = submit(&client, &script).await;
    until("the long job executes", || async {
        client.job(&long).await.ok()?.line.started_at
    })
    .await;
    let stop = Arc::new(AtomicBool::new(false));
    let submitter = tokio::spawn(submit_until(client.clone(), Arc::clone(&stop)));
    until("jobs come and go", || async {
        let status = client.status().await.ok()?;
        (status.waiting > 20).then_some(())
    })
    .await;
    primary.kill();
    until("the service notices", || async {
        client.status().await.is_err().then_some(())
    })
    .await;
    standby.promote().await;
    let promoted = Instant::now();
    until("jobs are submitted again", || async {
        client.submit(&job("true"), None).await.ok()
    })
    .await;
    std::fs::write(&go, "").unwrap();
    stop.store(true, Ordering::Relaxed);
    let acknowledged = submitter.await.unwrap();
    until("the long job ends", || async {
        client.job(&long).await.ok()?.line.result
    })
    .await;
    let took = promoted.elapsed();
    eprintln!(
        "dispatch went on {took:?} after the promotion, {} jobs",
        acknowledged.len()
    );
    assert!(took < GOES_ON, "{took:?}");
    assert!(service.is_running(), "the service was not restarted");
    for name in acknowledged.iter().chain([&long]) {
        let done = until(&format!("{name} is done"), || async {
            let job = client.job(name).await.ok()?;
            job.line.result.is_some().then_some(job)
        })
        .await;
        assert_eq!(done.line.result, Some(Outcome::Success), "{done:?}");
        let accepted = done.attempts.iter().filter(|one| one.accepted).count();
        assert_eq!(accepted, 1, "{done:?}");
    }
    assert_eq!(
        client.job(&long).await.unwrap().attempts.len(),
        1,
        "it went on through it all"
    );
    let jobs = standby.texts("select count(*)::text from job").await;
    all_are_counted(&client, jobs[0].parse().unwrap()).await;
}

/// Waits until trends count this number of jobs, and checks that they count exactly that.
async fn all_are_counted(client: &Client, jobs: u64) {
    let counted = until("the jobs are counted", || async {
        let trends = client.trends(&TrendFilter::default()).await.ok()?;
        let counted: u64 = trends.whole.results.values().sum();
        (counted >= jobs).then_some(counted)
    })
    .await;
    assert_eq!(counted, jobs);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_dump_that_is_restored_elsewhere_goes_on_with_its_runners_jobs_and_figures() {
    let (old, new) = (Cluster::start(&[]), Cluster::start(&[]));
    let (data, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let port = free_port();
    let service = ServiceProcess::start(&old.url, data.path(), port).await;
    let client = Client::new(&service.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    // Transactions that the new cluster has not seen: its own numbers are behind.
    old.run("create table passing (n int)").await;
    old.run(
        "do $$ begin for n in 1..2000 loop insert into passing values (n); commit; end loop; end $$",
    )
    .await;
    old.run("drop table passing").await;
    let _runner = join(&client, &service.url, home.path()).await;
    let before = submit(&client, "echo before").await;
    when(&client, &before, |job| job.line.result.is_some()).await;
    all_are_counted(&client, 1).await;
    drop(service);
    old.restore_into(&new);
    let _service = ServiceProcess::start(&new.url, data.path(), port).await;
    for _ in 0..3 {
        let after = submit(&client, "echo after").await;
        let job = when(&client, &after, |job| job.line.result.is_some()).await;
        assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    }
    all_are_counted(&client, 4).await;
    // The log from before is still there.
    let log = client.log(&before, None, 0, Micros(0)).await.unwrap();
    assert!(String::from_utf8_lossy(&log.bytes).contains("before"));
}

/// Refusals while the disk is full, and of a repeated request whose first one has not ended yet.
const EXPECTED: [&str; 4] = ["storage-full", "database-away", "busy", "still-in-progress"];

/// Submits jobs one after the other until told to stop, each until it is taken. Counts the refusals.
async fn insist_until(
    client: Client,
    stop: Arc<AtomicBool>,
    refused: Arc<AtomicU64>,
) -> Vec<String> {
    let mut acknowledged = Vec::new();
    // Large enough to need space on the disk.
    let new = NewJob {
        variables: [("TEXT".to_owned(), Uuid::new_v4().to_string().repeat(400))].into(),
        ..job("true")
    };
    while !stop.load(Ordering::Relaxed) {
        let key = Uuid::new_v4().to_string();
        let taken = until("a job is taken", || async {
            match client.submit(&new, Some(&key)).await {
                Ok(taken) => Some(taken),
                Err(error) => {
                    let problem = error.problem().expect("an answer");
                    assert!(EXPECTED.contains(&problem.word()), "{problem:?}");
                    refused.fetch_add(1, Ordering::Relaxed);
                    None
                }
            }
        });
        acknowledged.push(taken.await.job.name);
        tokio::time::sleep(PACE).await;
    }
    acknowledged
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn while_the_databases_disk_is_full_nothing_is_acknowledged_that_is_lost_and_then_all_goes_on()
 {
    let wal = [("min_wal_size", "32MB"), ("max_wal_size", "64MB")];
    let Some(cluster) = Cluster::start_on_disk("320m", &wal) else {
        eprintln!(
            "SKIPPED: this user may not make a mount namespace here, so no small disk can be had"
        );
        return;
    };
    let (data, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut service = ServiceProcess::start(&cluster.url, data.path(), free_port()).await;
    let client = Client::new(&service.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    let _runner = join(&client, &service.url, home.path()).await;
    // One job executes, and writes its log, all the time.
    let go = shared(home.path()).join("go");
    let script = format!(
        "n=0; while [ ! -e {} ]; do n=$((n+1)); echo line $n; sleep 0.02; done; echo end $n",
        go.display()
    );
    let long = submit(&client, &script).await;
    when(&client, &long, |job| job.line.started_at.is_some()).await;
    let (stop, refused) = (
        Arc::new(AtomicBool::new(false)),
        Arc::new(AtomicU64::new(0)),
    );
    let submitter = insist_until(client.clone(), Arc::clone(&stop), Arc::clone(&refused));
    let submitter = tokio::spawn(submitter);
    until("jobs come and go", || async {
        let jobs = client
            .jobs(&JobListFilter::default(), None, 50)
            .await
            .ok()?;
        (jobs.items.len() > 20).then_some(())
    })
    .await;

    cluster.fill_disk();
    until("jobs are refused", || async {
        (refused.load(Ordering::Relaxed) > 20).then_some(())
    })
    .await;
    eprintln!("the server runs on a full disk: {}", cluster.is_running());
    cluster.free_disk();
    let before = refused.load(Ordering::Relaxed);
    until("jobs are taken again", || async {
        client.submit(&job("true"), None).await.ok()
    })
    .await;
    std::fs::write(&go, "").unwrap();
    stop.store(true, Ordering::Relaxed);
    let acknowledged = submitter.await.unwrap();
    eprintln!("{} jobs were taken, {before} refused", acknowledged.len());
    assert!(service.is_running(), "the service was not restarted");
    for name in acknowledged.iter().chain([&long]) {
        let done = when(&client, name, |job| job.line.result.is_some()).await;
        assert_eq!(done.line.result, Some(Outcome::Success), "{done:?}");
        let accepted = done.attempts.iter().filter(|one| one.accepted).count();
        assert_eq!(accepted, 1, "{done:?}");
    }
    let taken = "select count(*)::text from job where variables ? 'TEXT'";
    let taken: usize = cluster.texts(taken).await[0].parse().unwrap();
    assert_eq!(taken, acknowledged.len(), "each was taken exactly once");
    let log = whole_log(&client, &long).await;
    let lines: Vec<&str> = log
        .lines()
        .filter(|line| line.starts_with("line "))
        .collect();
    let expected: Vec<String> = (1..=lines.len()).map(|n| format!("line {n}")).collect();
    assert_eq!(lines, expected);
    assert!(log.contains(&format!("\nend {}\n", lines.len())), "{log}");
}
