//! The load program: its crowd does whole cycles, and what it counts is what the record holds.

use crate::support::{Service, program};
use std::process::{Command, Output};

async fn load(arguments: &[&str]) -> Output {
    let mut command = Command::new(program("pennine-load"));
    command.args(arguments).env_clear();
    tokio::task::spawn_blocking(move || command.output().expect("pennine-load runs"))
        .await
        .unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_crowd_submits_starts_and_finishes_jobs_over_the_real_protocol() {
    let service = Service::start().await;
    let output = load(&[
        "cycles",
        "--url",
        &service.url,
        "--token",
        &service.token,
        "--runners",
        "3",
        "--for",
        "2",
        "--submitters",
        "2",
    ])
    .await;
    let printed = String::from_utf8_lossy(&output.stdout);
    let progress = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{progress}");
    assert!(progress.contains("3 runners joined"), "{progress}");
    assert!(
        printed.starts_with("3 runners over the real protocol: "),
        "{printed}"
    );
    let query = "select count(*)::text from job where result = 'success' and started_at is not null
                 and exists (select from attempt a where a.job_id = job.id and a.accepted)";
    let done: u64 = service.database.texts(query).await[0].parse().unwrap();
    let counted = progress
        .lines()
        .filter_map(|line| line.split("finished").next()?.split_whitespace().last())
        .filter_map(|word| word.parse::<u64>().ok())
        .next_back()
        .unwrap_or_else(|| panic!("nothing is counted in {progress}"));
    assert!(
        counted > 0 && counted <= done,
        "{counted} of {done}: {progress}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_address_on_another_machine_is_refused_before_anything_is_sent() {
    let url = ["--url", "http://192.0.2.7:7117", "--token", "x"];
    let output = load(&[&["cycles"][..], &url].concat()).await;
    assert!(!output.status.success());
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(
        error.contains("192.0.2.7:7117 is not on this machine"),
        "{error}"
    );
}
