//! A background task that ends does not go unnoticed.

use crate::support::{Database, Replica, Service, config, ready, until};
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, leadership};
use pennined::background::Task;
use std::time::Duration;
use tokio::net::TcpListener;

/// Serves with a task that panics, and returns how that ended.
async fn end_with(fault: Task) -> Result<(), String> {
    let database = Database::fresh().await;
    let data = tempfile::tempdir().unwrap();
    let mut config = config(&database.url, data.path(), ([127, 0, 0, 1], 0).into());
    config.fault = Some(fault);
    let listener = TcpListener::bind(config.listen).await.unwrap();
    let served = pennined::boot::serve(config, listener, None, Box::pin(std::future::pending()));
    let ended = tokio::time::timeout(Duration::from_secs(60), served).await;
    let ended = ended.unwrap_or_else(|_| panic!("{fault} panicked, and the service went on"));
    ended.map_err(|error| error.to_string())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_replica_ends_with_an_error_that_names_the_task_that_panicked() {
    for task in Task::ALL {
        // The loop of a term ends the term.
        if task == Task::Dispatch {
            continue;
        }
        let error = end_with(task).await.unwrap_err();
        let expected =
            format!("the background task \"{task}\" panicked: a fault that a test asked for");
        assert_eq!(error, expected);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_term_that_panics_ends_backs_off_and_leaves_the_lead_to_another_replica() {
    let service = Service::with(|config| config.fault = None).await;
    service.furnish().await;
    let name = service.submit("", "true").await;
    let mut faulty = service.config.clone();
    faulty.fault = Some(Task::Dispatch);
    faulty.listen = ([127, 0, 0, 1], 0).into();
    let mut service = service;
    service.goes_away().await;
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let epoch = async || {
        let mut connection = store.people().await.unwrap();
        leadership::current(&mut connection).await.unwrap().epoch
    };
    let before = epoch().await;
    let replica = Replica::start(faulty, service.clock.clone()).await;
    until("the faulty replica has led twice", || async {
        (epoch().await >= before + 2).then_some(())
    })
    .await;
    // Without pauses it would be hundreds.
    tokio::time::sleep(Duration::from_secs(2)).await;
    let terms = epoch().await - before;
    assert!(terms < 10, "{terms} terms");
    // It serves on, and another replica leads once there is one.
    let answer = reqwest::get(format!("{}/healthz", replica.url))
        .await
        .unwrap();
    assert!(answer.status().is_success());
    service.comes_back().await;
    let runner = crate::support::Runner::working(&service, "staithe", "fell-01", 1).await;
    service.done(&name).await;
    drop(runner);
    replica.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn readiness_lists_the_last_turn_of_each_task() {
    let service = Service::start().await;
    ready(&service.url).await;
    let text = until("dispatch has made a turn", || async {
        let answer = reqwest::get(format!("{}/readyz", service.url)).await.ok()?;
        let text = answer.text().await.ok()?;
        text.contains("\n  dispatch: ").then_some(text)
    })
    .await;
    for task in [
        "change feed",
        "housekeeping",
        "alerting",
        "webhooks",
        "runner presence",
    ] {
        assert!(text.contains(&format!("\n  {task}: ")), "{task} in {text}");
    }
    assert!(
        !text.contains("traces:") && !text.contains("STALLED"),
        "{text}"
    );
}
