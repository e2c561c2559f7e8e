//! Made-up history in the record, as the demo begins with.

use crate::support::{Service, program};
use pennine_client::JobListFilter;
use pennine_core::dispatch::Reason;
use std::process::{Command, Output};

/// A nightly batch, and a night in which its pool is paused.
const SCENARIO: &str = r#"
seed = 7
days = 4

[[runner]]
name = "fell-01"
pool = "staithe"
slots = 1
facts = { os = "linux", cores = 4 }

[[work]]
project = "firmware/buoy"
title = "build and test"
where = "linux"
command = ["make", "check"]
nightly = { at = "01:00", jobs = 6 }
minutes = 10.0
spread = 1.2
fails = 0.2

[[paused]]
pool = "staithe"
days_back = 1
hours = ["00:30", "02:30"]
"#;

/// Writes it into the record of a furnished service.
pub fn write(service: &Service) -> Output {
    let scenario = service.data.path().join("scenario.toml");
    std::fs::write(&scenario, SCENARIO).unwrap();
    Command::new(program("pennine-history"))
        .args(["--database", &service.database.url])
        .arg(&scenario)
        .output()
        .unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn made_up_history_reads_like_any_other() {
    let service = Service::start().await;
    service.furnish().await;
    let output = write(&service);
    assert!(output.status.success(), "{output:?}");
    let listed = service
        .client
        .jobs(&JobListFilter::default(), None, 200)
        .await
        .unwrap();
    // Three or four nights are in the last four days; the last may not be over.
    assert!(
        (18..=24).contains(&listed.items.len()),
        "{}",
        listed.items.len()
    );
    let mut waited_for = Vec::new();
    for line in &listed.items {
        let job = service.client.job(&line.name).await.unwrap();
        let parts = job.attempts[0].wait.iter().map(|span| span.length_us.0);
        assert_eq!(parts.sum::<u64>(), line.wait_us.0, "{}", line.name);
        waited_for.extend(job.attempts[0].wait.iter().map(|span| span.reason));
    }
    for reason in [Reason::AllBusy, Reason::Paused, Reason::Handover] {
        assert!(waited_for.contains(&reason), "{reason} in {waited_for:?}");
    }
    assert_eq!(
        service
            .client
            .runners(&Default::default())
            .await
            .unwrap()
            .items
            .len(),
        0,
        "the machines of that time are gone"
    );
    let again = write(&service);
    let message = String::from_utf8_lossy(&again.stderr);
    assert!(
        !again.status.success() && message.contains("jobs are on record already"),
        "{message}"
    );
    // The real service goes on after it.
    let name = service.submit("arm64", "true").await;
    let numbers = |name: &str| name.trim_start_matches("j-").parse::<usize>().unwrap();
    assert!(numbers(&name) > listed.items.len());
}
