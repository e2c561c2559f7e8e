//! What is old enough is let go, and nothing that is still needed.

use crate::support::{Runner, Service, until};
use pennine_client::TrendFilter;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Micros;
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, measure};
use std::time::Duration;

const DAY: Duration = Duration::from_secs(86_400);

async fn waits(service: &Service) -> u64 {
    let recent = TrendFilter {
        last_us: Some(Micros::from(120 * DAY)),
        ..TrendFilter::default()
    };
    let trends = service.client.trends(&recent).await.unwrap();
    trends.whole.wait.count - trends.whole.wait.still_waiting
}

async fn parts(service: &Service, table: &str) -> Vec<String> {
    let asked = format!(
        "select c.relname::text from pg_inherits i join pg_class c on c.oid = i.inhrelid
         where i.inhparent = '{table}'::regclass order by 1"
    );
    service.database.texts(&asked).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn retention_removes_old_logs_and_months_and_keeps_sums_and_open_jobs() {
    let service = Service::with(|config| {
        config.keep.logs = 1;
        config.keep.jobs = 30;
        config.keep.feed = 7;
    })
    .await;
    service.furnish().await;
    let waiting = service.submit("amr64", "true").await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let job = service.submit("linux", "echo the tide is out").await;
    service.done(&job).await;
    drop(runner);
    assert!(String::from_utf8_lossy(&service.log(&job).await).contains("the tide is out"));
    let sealed = service.data.path().join("objects/logs");
    until("the log is sealed, and the wait counted", || async {
        (std::fs::read_dir(&sealed).ok()?.count() == 1 && waits(&service).await == 1).then_some(())
    })
    .await;
    let (jobs, feed) = (
        parts(&service, "job").await,
        parts(&service, "outbox").await,
    );

    service.clock.advance(2 * DAY);
    let gone = until("the log is gone", || async {
        service.client.log(&job, None, 0, Micros(0)).await.err()
    })
    .await;
    assert!(
        gone.to_string().contains("logs are kept for 1 days"),
        "{gone}"
    );
    let lines = service.client.log_lines(&job, 0, 10).await.unwrap_err();
    assert!(lines.to_string().contains("has expired"), "{lines}");
    until("its objects are gone", || async {
        (std::fs::read_dir(&sealed).map_or(0, Iterator::count) == 0).then_some(())
    })
    .await;
    service.client.job(&job).await.unwrap();

    // Months go by. What waits since then keeps its month, and what is in it, on record.
    service.clock.advance(70 * DAY);
    until("the feed's first month is gone", || async {
        (!parts(&service, "outbox").await.contains(&feed[0])).then_some(())
    })
    .await;
    assert!(parts(&service, "job").await.contains(&jobs[0]));
    service.client.job(&job).await.unwrap();
    service.client.cancel(&waiting).await.unwrap();
    until("the jobs of that month are gone", || async {
        service.client.job(&job).await.err()
    })
    .await;
    assert!(!parts(&service, "job").await.contains(&jobs[0]));
    until("the attempts are gone too", || async {
        let left = service.database.texts("select id::text from attempt").await;
        left.is_empty().then_some(())
    })
    .await;
    // What they came to stays, also where everything is recomputed.
    assert_eq!(waits(&service).await, 2);
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    measure::rebuild(&mut connection, service.clock.now())
        .await
        .unwrap();
    assert_eq!(waits(&service).await, 2);
}
